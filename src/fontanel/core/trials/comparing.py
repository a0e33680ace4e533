"""Compare two trials question by question."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

from fontanel.core.trials.figures import sign_test
from fontanel.core.trials.judging import RIGHT_RESULTS, Result


class Change(StrEnum):
    """How the answer to a question differs between two trials."""

    WON = "won"
    LOST = "lost"
    #: Neither better nor worse, but another result or text.
    CHANGED = "changed"
    SAME = "same"


@dataclass(frozen=True, slots=True)
class Comparison:
    """The changes of the questions that both trials asked, and how likely chance explains them."""

    changes: Mapping[str, Change]
    probability: float

    def count(self, change: Change) -> int:
        return sum(1 for one in self.changes.values() if one == change)


def compare(
    before: Mapping[str, tuple[Result, str]], after: Mapping[str, tuple[Result, str]]
) -> Comparison:
    """Compare the results and texts of two trials, by question."""
    changes = {
        question: _change(before[question], after[question])
        for question in before
        if question in after
    }
    found = list(changes.values())
    probability = sign_test(found.count(Change.WON), found.count(Change.LOST))
    return Comparison(changes, probability)


def _change(before: tuple[Result, str], after: tuple[Result, str]) -> Change:
    was_right, is_right = before[0] in RIGHT_RESULTS, after[0] in RIGHT_RESULTS
    if was_right != is_right:
        return Change.WON if is_right else Change.LOST
    return Change.SAME if before == after else Change.CHANGED
