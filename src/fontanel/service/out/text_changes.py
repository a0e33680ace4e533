"""What changed between two texts, as the API returns it."""

from __future__ import annotations

from collections.abc import Sequence

from fontanel.core.text.differences import Change, differences
from fontanel.schemas import ChangeOut

#: Pieces shown on each side of a change.
_AROUND = 2


def changes_out(before: Sequence[str], after: Sequence[str]) -> list[ChangeOut]:
    """Return what changed between two texts in pieces; long equal parts are shortened."""
    return [_change_out(change) for change in differences(before, after)]


def _change_out(change: Change) -> ChangeOut:
    hidden = 0
    before, after = list(change.before), list(change.after)
    if change.kind == "same" and len(before) > 2 * _AROUND + 1:
        hidden = len(before) - 2 * _AROUND
        before = [*before[:_AROUND], *before[-_AROUND:]]
        after = [*after[:_AROUND], *after[-_AROUND:]]
    return ChangeOut(
        kind=change.kind,
        before=before,
        after=after,
        before_marks=list(change.before_marks),
        after_marks=list(change.after_marks),
        hidden=hidden,
    )
