"""When nightly trials begin, in each team's own time."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.engine.trials.starting import last_night

ZONES = st.sampled_from(["UTC", "Europe/Berlin", "America/New_York", "Asia/Kathmandu"])
MOMENTS = st.datetimes(datetime(2024, 1, 1), datetime(2028, 1, 1), timezones=st.just(UTC))


@given(MOMENTS, ZONES)
def test_the_last_night_was_less_than_a_day_ago(moment: datetime, zone: str) -> None:
    begin = last_night(moment, zone)
    assert begin <= moment
    assert moment - begin <= timedelta(hours=25)  # a day may have 25 hours
    assert begin.astimezone(ZoneInfo(zone)).hour in (2, 3)  # or no 2 o'clock


@pytest.mark.parametrize(
    ("moment", "expected"),
    [
        ("2026-11-30T01:30:00+00:00", "2026-11-30T01:00:00+00:00"),
        ("2026-11-30T00:30:00+00:00", "2026-11-29T01:00:00+00:00"),
    ],
)
def test_it_begins_at_two_in_the_teams_time(moment: str, expected: str) -> None:
    begin = last_night(datetime.fromisoformat(moment), "Europe/Berlin")
    assert begin == datetime.fromisoformat(expected)
