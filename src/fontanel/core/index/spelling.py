"""Slips of the pen: for a word that no passage has, the words that nearly are it."""

from __future__ import annotations

from collections.abc import Sequence

from fontanel.core.index.postings import letters
from fontanel.core.index.segments import ABSENT, WordsSegment
from fontanel.core.text.analysis import fold

#: A correction counts for so much of the word that was written.
PENALTY = 0.9
#: Words this short are names and units as often as slips.
_MIN = 4
_MAX = 3
#: Endings that stemming removes.
_ENDINGS = (
    *("e", "s", "y", "ed", "er", "es", "ly", "en", "al", "or", "ing", "ion", "ers", "ies", "ity"),
    *("able", "ance", "ence", "ions", "ment", "ness", "ings", "ation", "ments"),
)
_LONGEST_ENDING = 6


def corrections(term: str, word: str, segments: Sequence[WordsSegment]) -> list[str]:
    """Return the indexed terms that a misspelled word nearly is, the most likely first.

    They are within edit distance 1, or 2 for long words. A slip near the end keeps the stemmer from
    removing an ending, so the word as it was written is also compared with terms that have usual
    endings.

    Args:
        term: The word's stem, which no passage has.
        word: The word as it was written.
    """
    if len(term) < _MIN or not term.isalpha():
        return []
    slips = 2 if len(term) >= 8 else 1
    distances = {
        near: edit_distance(term, near, slips)
        for near in _alike(term, slips, segments)
        if abs(len(near) - len(term)) <= slips
    }
    for near, distance in _with_endings(fold(word), segments).items():
        distances[near] = min(distance, distances.get(near, distance))
    results = {
        near: (distance, -_frequency(near, segments))
        for near, distance in distances.items()
        if distance <= slips
    }
    nearest = min((distance for distance, _ in results.values()), default=0)
    likely = [near for near, (distance, _) in results.items() if distance == nearest]
    return sorted(likely, key=lambda near: (*results[near], near))[:_MAX]


def _alike(word: str, slips: int, segments: Sequence[WordsSegment]) -> set[str]:
    """Return the terms that share most letter pairs with a word."""
    bits = letters(word.encode())
    # One edit changes at most three letter pairs of either word.
    terms = {term.decode() for segment in segments for term in segment.alike(bits, 6 * slips)}
    return {term for term in terms if term.isalpha()}


def _with_endings(word: str, segments: Sequence[WordsSegment]) -> dict[str, int]:
    """Return the terms that make a word with one slip and an ending, with their distances."""
    distances: dict[str, int] = {}
    for length in range(max(_MIN, len(word) - _LONGEST_ENDING), len(word)):
        beginning, rest = word[:length], word[length:]
        slips = min(edit_distance(rest, ending, 1) for ending in _ENDINGS)
        if slips > 1:
            continue
        for near in _alike(beginning, 1, segments):
            distance = slips + edit_distance(beginning, near, 1)
            if distance <= 1:
                distances[near] = min(distance, distances.get(near, distance))
    return distances


def _frequency(term: str, segments: Sequence[WordsSegment]) -> int:
    return sum(
        len(segment.rows_of(index))
        for segment in segments
        if (index := segment.index_of(term)) != ABSENT
    )


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
