"""Differences between two texts: nothing lost, and what changed marked."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.text.differences import differences

pieces = st.lists(st.text(alphabet="ab c\n.é", max_size=12), max_size=12)


@given(pieces, pieces)
def test_both_texts_can_be_put_together_again(before: list[str], after: list[str]) -> None:
    changes = differences(before, after)
    assert [piece for change in changes for piece in change.before] == before
    assert [piece for change in changes for piece in change.after] == after


@given(pieces, pieces)
def test_marks_lie_in_what_changed_and_cover_it(before: list[str], after: list[str]) -> None:
    for change in differences(before, after):
        if change.kind != "changed":
            continue
        rests = []
        for text, marks in (
            (change.before[0], change.before_marks),
            (change.after[0], change.after_marks),
        ):
            kept, at = "", 0
            for start, end in marks:
                assert 0 <= at <= start < end <= len(text)
                kept, at = kept + text[at:start], end
            rests.append(kept + text[at:])
        assert rests[0] == rests[1]


def test_a_changed_word_is_marked() -> None:
    (change,) = differences(["The limit is 30 knots."], ["The limit is 28 knots."])
    assert (change.kind, change.before_marks, change.after_marks) == (
        "changed",
        ((13, 15),),
        ((13, 15),),
    )


def test_a_paragraph_between_is_added() -> None:
    kinds = [
        change.kind for change in differences(["One.", "Three."], ["One.", "Two is new.", "Three."])
    ]
    assert kinds == ["same", "added", "same"]
