"""Slips of the pen: for a word that no passage has, the words that nearly are it."""

from __future__ import annotations

from collections.abc import Sequence

from fontanel.core.index.postings import letters
from fontanel.core.index.segments import ABSENT, WordsSegment

#: A correction counts for so much of the word that was written.
PENALTY = 0.6
#: Words this short are names and units as often as slips.
_MIN = 4
_MAX = 3


def corrections(term: str, segments: Sequence[WordsSegment]) -> list[str]:
    """Return indexed terms within edit distance 1, or 2 for long words."""
    if len(term) < _MIN or not term.isalpha():
        return []
    slips = 2 if len(term) >= 8 else 1
    bits = letters(term.encode())
    results: dict[str, tuple[int, int]] = {}
    for segment in segments:
        # One edit changes at most three letter pairs of either word.
        for other in segment.alike(bits, 6 * slips):
            near = other.decode()
            if near in results or abs(len(near) - len(term)) > slips or not near.isalpha():
                continue
            distance = edit_distance(term, near, slips)
            if distance <= slips:
                frequency = sum(
                    len(s.rows_of(index)) for s in segments if (index := s.index_of(near)) != ABSENT
                )
                results[near] = distance, -frequency
    return sorted(results, key=lambda near: (*results[near], near))[:_MAX]


def edit_distance(a: str, b: str, most: int) -> int:
    """Return the edit distance (optimal string alignment), `most` + 1 if it is larger."""
    before: list[int] = []
    above = list(range(len(b) + 1))
    for i, letter in enumerate(a, 1):
        row = [i]
        for j, other in enumerate(b, 1):
            cost = min(row[j - 1] + 1, above[j] + 1, above[j - 1] + (letter != other))
            if i > 1 and j > 1 and letter == b[j - 2] and a[i - 2] == other:
                cost = min(cost, before[j - 2] + 1)
            row.append(cost)
        if min(row) > most:
            return most + 1
        before, above = above, row
    return min(above[-1], most + 1)
