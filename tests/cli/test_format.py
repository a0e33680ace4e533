"""Numbers, sizes, times and places as people read them."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.text import Text

from fontanel.cli.commands.asking import excerpt
from fontanel.cli.format import moment, number, percent, size
from fontanel.schemas import LocatorOut, SpanOut
from fontanel.schemas.display import clock, place
from tests.cli.conftest import Run


@pytest.mark.parametrize(
    ("value", "said"), [(None, "-"), (0, "0"), (999, "999"), (1234567, "1,234,567")]
)
def test_numbers(value: int | None, said: str) -> None:
    assert number(value) == said


@pytest.mark.parametrize(
    ("value", "said"),
    [
        (0, "0 B"),
        (999, "999 B"),
        (1000, "1.0 kB"),
        (4_520, "4.5 kB"),
        (38_200_000, "38.2 MB"),
        (5 * 10**12, "5000.0 GB"),
    ],
)
def test_sizes(value: int, said: str) -> None:
    assert size(value) == said


@given(st.integers(0, 10**13))
def test_any_size_has_a_unit_and_few_digits(value: int) -> None:
    amount, unit = size(value).split()
    assert unit in ("B", "kB", "MB", "GB")
    assert unit == "GB" or float(amount) <= 1000


@pytest.mark.parametrize(
    ("before", "said"),
    [
        (timedelta(seconds=-5), "0 s ago"),
        (timedelta(seconds=42), "42 s ago"),
        (timedelta(minutes=3, seconds=30), "3 min ago"),
        (timedelta(hours=5, minutes=10), "5 h ago"),
        (timedelta(days=2, hours=1), "2 days ago"),
        (
            -timedelta(days=90, minutes=1),
            (datetime.now(UTC) + timedelta(days=90)).date().isoformat(),
        ),
        (-timedelta(days=30, minutes=1), "in 30 days"),
        (-timedelta(hours=3, minutes=1), "in 3 h"),
    ],
)
def test_times_as_people_say_them(before: timedelta, said: str) -> None:
    assert moment(datetime.now(UTC) - before) == said


def test_what_was_long_ago_has_a_date_and_what_never_was_has_none() -> None:
    assert moment(datetime(2020, 3, 4, 12, tzinfo=UTC)) == "2020-03-04"
    assert moment(None) == "-"


@given(st.integers(0, 10**6))
def test_a_time_in_a_recording_can_be_read_back(seconds: int) -> None:
    parts = [int(part) for part in clock(seconds).split(":")]
    assert sum(part * 60**power for power, part in enumerate(reversed(parts))) == seconds


def test_shares() -> None:
    assert [percent(value) for value in (0, 0.346, 1)] == ["0 %", "35 %", "100 %"]


@pytest.mark.parametrize(
    ("locator", "said"),
    [
        ({"page": 3, "unit": "page"}, "page 3"),
        ({"page": 3, "label": "iv", "unit": "page"}, "page iv"),
        ({"page": 2, "label": "Dues", "unit": "sheet", "rows": (2, 8)}, "sheet Dues, rows 2-8"),
        ({"page": 2, "label": "Dues", "unit": "sheet", "rows": (4, 4)}, "sheet Dues, row 4"),
        ({"page": 5, "label": "Closing words", "unit": "slide"}, "slide 5"),
        ({"seconds": 3723.5}, "1:02:03"),
        ({"heading_path": ["Storm plan", "Cranes", "Quay crane"]}, "Cranes > Quay crane"),
        ({"heading_path": ["Storm plan"]}, ""),
    ],
)
def test_a_place_leaves_the_title_out(locator: dict[str, object], said: str) -> None:
    whole = {"heading_path": [], "page": None, "anchor": None, **locator}
    assert place("Storm plan", LocatorOut.model_validate(whole)) == said


def test_what_is_piped_has_no_blanks_at_the_ends_of_lines(run: Run, storm: str) -> None:
    for arguments in (
        ("kb", "list"),
        ("kb", "show", storm),
        ("document", "list"),
        ("search", "quay crane gust", "--explain"),
    ):
        text = run(*arguments).stdout
        assert text.strip()
        assert [line for line in text.split("\n") if line != line.rstrip()] == []


@given(
    st.lists(st.sampled_from(["wind", "berth", "gale", "of", "35"]), min_size=1, max_size=80),
    st.lists(st.sampled_from([" ", "\t", "\n", ". "]), min_size=80, max_size=80),
)
def test_an_excerpt_marks_the_terms_where_they_are(words: list[str], between: list[str]) -> None:
    text, spans = "", []
    for word, gap in zip(words, between, strict=False):
        if word == "wind":
            spans.append(SpanOut(start=len(text), end=len(text) + 4))
        text += word + gap
    shown = excerpt(text, spans).renderable
    assert isinstance(shown, Text)
    assert "\t" not in shown.plain
    marked = [shown.plain[span.start : span.end] for span in shown.spans]
    assert all("wind".startswith(part) and part for part in marked)
    assert bool(marked) == bool(spans)
