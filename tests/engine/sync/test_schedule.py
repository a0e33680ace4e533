"""When sources are due, and what keeps secrets."""

from __future__ import annotations

import stat
from datetime import UTC, datetime
from pathlib import Path

import pytest

from fontanel.engine.sync.cron import next_time
from fontanel.engine.sync.planning import next_run
from fontanel.errors import Refused, SecretUnreadable
from fontanel.records.tables import Source
from fontanel.records.vault import Vault

NOW = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)


def source(**said: object) -> Source:
    return Source(**{"kind": "site", "settings": {}, "cron": None, "every_minutes": None, **said})


@pytest.mark.parametrize(
    ("line", "zone", "due"),
    [
        ("15 6 * * *", "UTC", datetime(2026, 11, 24, 6, 15, tzinfo=UTC)),
        ("15 6 * * *", "Europe/Berlin", datetime(2026, 11, 24, 5, 15, tzinfo=UTC)),
        ("0 13 * * *", "Europe/Berlin", datetime(2026, 11, 24, 12, 0, tzinfo=UTC)),
        ("*/10 * * * *", "UTC", datetime(2026, 11, 23, 12, 10, tzinfo=UTC)),
        ("0 0 1 1 *", "America/New_York", datetime(2027, 1, 1, 5, 0, tzinfo=UTC)),
        # The night when clocks go forward has no half past two: it is due right after the gap.
        ("30 2 28 3 *", "Europe/Berlin", datetime(2027, 3, 28, 1, 0, tzinfo=UTC)),
    ],
)
def test_a_cron_line_is_in_the_teams_time_zone(line: str, zone: str, due: datetime) -> None:
    result = next_run(source(cron=line), zone, NOW)
    assert result is not None
    assert result.astimezone(UTC) == due


@pytest.mark.parametrize(
    ("weekdays", "days"),
    [
        ("1-5", [24, 25, 26, 27, 30, 1]),
        ("mon-fri", [24, 25, 26, 27, 30, 1]),
        ("0", [29, 6]),
        ("7", [29, 6]),
        ("6,0", [28, 29, 5, 6]),
        ("5-7", [27, 28, 29, 4]),
        ("*/2", [24, 26, 28, 29, 1]),
        ("1-5/2", [25, 27, 30]),
        ("sat", [28, 5]),
    ],
)
def test_weekdays_count_from_sunday(weekdays: str, days: list[int]) -> None:
    after, result = NOW, []  # a Monday
    for _ in days:
        due = next_run(source(cron=f"15 6 * * {weekdays}"), "UTC", after)
        assert due is not None
        result.append(due.day)
        after = due
    assert result == days


def test_intervals_watching_and_neither() -> None:
    assert next_run(source(every_minutes=5), "UTC", NOW) == datetime(
        2026, 11, 23, 12, 5, tzinfo=UTC
    )
    assert next_run(source(), "UTC", NOW) is None
    watched = next_run(source(kind="folder", settings={"watch": True}), "UTC", NOW)
    assert watched is not None
    assert next_run(source(kind="folder", settings={"watch": False}), "UTC", NOW) is None


@pytest.mark.parametrize(
    "line",
    ["", "noon", "* * * *", "61 * * * *", "* * * * * *", "*/0 * * * *", "0 6 * * 8", "0 6 * * 5-2"],
)
def test_what_is_no_cron_line(line: str) -> None:
    with pytest.raises(Refused):
        next_time(line, "UTC", NOW)


def test_secrets_are_sealed_and_the_key_is_for_the_service_alone(tmp_path: Path) -> None:
    vault = Vault(tmp_path / "secret.key")
    sealed = vault.seal({"password": "tide-table"})
    assert b"tide-table" not in sealed
    assert stat.S_IMODE((tmp_path / "secret.key").stat().st_mode) == 0o600
    assert Vault(tmp_path / "secret.key").open(sealed) == {"password": "tide-table"}
    with pytest.raises(SecretUnreadable, match="Enter them again"):
        Vault(tmp_path / "another.key").open(sealed)
