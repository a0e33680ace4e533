"""What becomes of quoted text in the next revision."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.curation.following import TextChange, follow

OLD = """Storm plan

Departure is permitted up to 28 knots. Above that, ask the harbour master.

- The crane stops at 38 knots.
- It is pinned at 44 knots.

The siren is tested on Mondays.
"""


def change(quote: str, new: str) -> tuple[TextChange, str]:
    start = OLD.index(quote)
    result = follow(OLD, start, start + len(quote), new)
    return result.change, new[result.start : result.end]


@pytest.mark.parametrize(
    ("quote", "before", "after", "expected", "text"),
    [
        ("up to 28 knots.", "Storm plan", "Storm plan of 2027", TextChange.SAME, "up to 28 knots."),
        (
            "The crane stops at 38 knots.",
            "38 knots",
            "36 knots",
            TextChange.CONTRADICTED,
            "- The crane stops at 36 knots.",
        ),
        (
            "Above that, ask the harbour master.",
            "ask the harbour master",
            "always ask the harbour master first",
            TextChange.REWORDED,
            "Above that, always ask the harbour master first.",
        ),
        (
            "Departure is permitted up to 28 knots.",
            "Departure is permitted",
            "Departure is not permitted",
            TextChange.CONTRADICTED,
            "Departure is not permitted up to 28 knots.",
        ),
        (
            "The siren is tested on Mondays.",
            "Mondays",
            "Fridays",
            TextChange.CONTRADICTED,
            "The siren is tested on Fridays.",
        ),
        (
            "The siren is tested on Mondays.",
            "The siren is tested on Mondays.\n",
            "",
            TextChange.REMOVED,
            "",
        ),
    ],
)
def test_what_becomes_of_a_quote(
    quote: str, before: str, after: str, expected: TextChange, text: str
) -> None:
    assert change(quote, OLD.replace(before, after)) == (expected, text)


def test_several_sentences_are_followed_together() -> None:
    quote = "Departure is permitted up to 28 knots. Above that, ask the harbour master."
    found = change(quote, OLD.replace("28", "26"))
    assert found == (TextChange.CONTRADICTED, quote.replace("28", "26"))


def test_the_place_with_the_same_surroundings_is_taken() -> None:
    old = "Berth 2\nThe limit is 3 knots.\nBerth 4\nThe limit is 3 knots.\nEnd of the list"
    start = old.rindex("The limit")
    new = "Berth 1\nThe limit is 3 knots.\n" + old
    result = follow(old, start, start + 21, new)
    assert (result.change, result.start) == (TextChange.SAME, new.rindex("The limit"))


@given(st.text(min_size=1, max_size=60), st.text(max_size=60), st.text(max_size=60))
def test_unchanged_text_is_followed_wherever_it_moves(quote: str, before: str, after: str) -> None:
    new = f"{before}{quote}{after}"
    result = follow(quote, 0, len(quote), new)
    if quote.strip():
        assert result.change == TextChange.SAME
        assert new[result.start : result.end].split() == quote.split()


@given(st.text(max_size=200), st.text(max_size=200))
def test_any_texts_are_followed(old: str, new: str) -> None:
    result = follow(old, 0, len(old), new)
    assert 0 <= result.start <= result.end <= len(new)
