"""Quotes followed to the next revision, whether or not the old one is kept."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.curation.following import TextChange, follow_quote

OLD = (
    "# Basin\n\nBoats leave the basin up to a wind of 20 knots. The lock opens at six."
    "\n\nFresh water costs 3.20 crowns a tonne.\n"
)
WIND = "Boats leave the basin up to a wind of 20 knots."


def followed(quote: str, new: str, *, kept: bool = True) -> tuple[TextChange, str]:
    start = OLD.index(quote)
    old = OLD if kept else None
    result, text = follow_quote(old, start, start + len(quote), quote, new)
    assert new[result.start : result.end] == text
    return result.change, text


@pytest.mark.parametrize("kept", [True, False])
@pytest.mark.parametrize(
    ("new", "change", "text"),
    [
        (OLD, TextChange.SAME, WIND),
        (f"First of all.\n\n{OLD}", TextChange.SAME, WIND),
        (OLD.replace("20 knots", "17 knots"), TextChange.CONTRADICTED, WIND.replace("20", "17")),
        (
            OLD.replace("Boats leave", "Boats may leave"),
            TextChange.REWORDED,
            WIND.replace("Boats leave", "Boats may leave"),
        ),
        ("# Basin\n\nClosed.\n", TextChange.REMOVED, ""),
        ("", TextChange.REMOVED, ""),
    ],
)
def test_a_quote_is_followed(new: str, change: TextChange, text: str, *, kept: bool) -> None:
    assert followed(WIND, new, kept=kept) == (change, text)


def test_a_quote_of_several_sentences_is_followed_as_one() -> None:
    quote = f"{WIND} The lock opens at six."
    new = OLD.replace("opens at six", "opens at seven")
    change, text = followed(quote, new)
    assert change == TextChange.REWORDED or change == TextChange.CONTRADICTED
    assert text.startswith("Boats leave")
    assert text.endswith("seven.")


@given(st.text(max_size=200), st.text(max_size=200))
def test_text_that_is_only_moved_is_the_same(before: str, after: str) -> None:
    change, text = followed(WIND, f"{before}\n\n{WIND}\n\n{after}")
    assert change == TextChange.SAME
    assert " ".join(text.split()) == WIND


@given(st.text(max_size=300))
def test_any_new_text_can_be_compared(new: str) -> None:
    for kept in (True, False):
        change, text = followed(WIND, new, kept=kept)
        assert (text == "") == (change == TextChange.REMOVED)
