"""Keyword search over a snapshot's segments.

The best passages are found as in MaxScore (Turtle and Flood, "Query evaluation: strategies and
optimizations", 1995), a term at a time over whole arrays. Terms are processed by their maximum
contribution. Once the remaining terms cannot lift a passage into the results, their postings are
looked up only for passages that may still get there.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from operator import attrgetter

import numpy as np
import numpy.typing as npt

from fontanel.core.arrays import Floats, Mask, Rows
from fontanel.core.index.postings import ABOUT_POSITION, by_field, saturated
from fontanel.core.index.segments import ABSENT, WordsSegment
from fontanel.core.text.analysis import Analyser

#: Sums of float32 differ in their last digits by the order of the terms.
_SURE = 1.0 - 1e-5
#: The best passages hardly ever exceed this share of the sum of all maxima.
_MOSTLY = 0.7


def best_rows(
    segment: WordsSegment,
    weights: Mapping[str, float],
    averages: Floats,
    count: int,
    usable: Mask | None,
    floor: float,
) -> tuple[Rows, Floats]:
    """Return the rows with the highest scores, and the scores, unordered."""
    stored = ((segment.index_of(term), weight) for term, weight in weights.items())
    terms = [
        _Term.of_segment(segment, index, weight, averages)
        for index, weight in stored
        if index != ABSENT
    ]
    terms.sort(key=attrgetter("bound"), reverse=True)
    # What the terms from each on can add together, and how many postings they have.
    bounds = _sums_from([term.bound for term in terms])
    left = _sums_from([len(term.rows) for term in terms])
    scores = np.zeros(len(segment), dtype=np.float32)
    threshold = floor
    done = 0
    for done, term in enumerate(terms, 1):
        if done == 1:
            scores[term.rows] = term.weight * term.impacts
        else:
            scores[term.rows] += term.weight * term.impacts
        # Checking whether the remaining terms matter pays only when their postings are long and
        # cannot add much.
        if left[done] > 4 * count and bounds[done] < _MOSTLY * bounds[0]:
            threshold = max(threshold, _reached(scores, term.rows, terms[done:], usable, count))
            if bounds[done] < threshold * _SURE:
                break
    cut = threshold * _SURE - bounds[done]
    candidates = np.flatnonzero(scores >= cut if cut > 0 else scores > 0).astype(np.int32)
    if usable is not None:
        candidates = candidates[usable[candidates]]
    if done < len(terms) and len(candidates) > 8 * count:
        # A bound from all terms so far, not just the last, leaves fewer rows to look up.
        threshold = max(threshold, _reached(scores, candidates, terms[done:], None, count))
        candidates = candidates[scores[candidates] >= threshold * _SURE - bounds[done]]
    result = scores[candidates]
    for place in range(done, len(terms)):
        result = result + terms[place].of(candidates)
        near = result + np.float32(bounds[place + 1]) >= threshold * _SURE
        candidates, result = candidates[near], result[near]
    if len(result) > count:
        least = np.partition(result, len(result) - count)[len(result) - count]
        # Rows that tie with the last are kept; their order is decided when all are known.
        keep = result >= least
        candidates, result = candidates[keep], result[keep]
    return candidates, result


@dataclass(frozen=True, slots=True)
class _Term:
    """A term's rows, ascending, its impacts, its weight, and its maximum contribution."""

    rows: Rows
    impacts: Floats
    weight: np.float32
    bound: float

    @classmethod
    def of_segment(
        cls, segment: WordsSegment, index: int, weight: float, averages: Floats
    ) -> _Term:
        return cls(
            segment.rows_of(index),
            segment.impacts_of(index, averages),
            np.float32(weight),
            weight * segment.largest_impact(index, averages),
        )

    def of(self, rows: Rows) -> Floats:
        """What it adds to some rows."""
        at = self.rows.searchsorted(rows)
        stored = self.rows.take(at, mode="clip") == rows
        added: Floats = self.weight * (self.impacts.take(at, mode="clip") * stored)
        return added


def _sums_from(values: Sequence[float]) -> list[float]:
    """The sum of the values from each place on, and 0 past the last."""
    return [0.0, *itertools.accumulate(reversed(values))][::-1]


def _reached(
    scores: Floats, rows: Rows, left: Sequence[_Term], usable: Mask | None, count: int
) -> float:
    """Return a score that at least `count` rows will reach, 0 when there are fewer.

    The best rows so far are scored in full, since that gives a much tighter bound.
    """
    if usable is not None:
        rows = rows[usable[rows]]
    if len(rows) < count:
        return 0.0
    values = scores[rows]
    some = 2 * count
    if len(rows) > some:
        best = np.argpartition(values, len(values) - some)[len(values) - some :]
        rows, values = rows[best], values[best]
    for term in left:
        values = values + term.of(rows)
    return float(np.partition(values, len(values) - count)[len(values) - count])


def term_scores(
    segment: WordsSegment,
    rows: npt.NDArray[np.int64],
    weights: Mapping[str, float],
    averages: Floats,
) -> Floats:
    """Return the contribution of each term to each row: (rows, terms)."""
    out = np.zeros((len(rows), len(weights)), dtype=np.float32)
    # Of the postings' own type: otherwise all of them would be converted for a few.
    requested = rows.astype(np.int32)
    for column, (term, weight) in enumerate(weights.items()):
        index = segment.index_of(term)
        if index != ABSENT:
            out[:, column] = _Term.of_segment(segment, index, weight, averages).of(requested)
    return out


def field_scores(
    segment: WordsSegment, row: int, weights: Mapping[str, float], averages: Floats
) -> dict[str, npt.NDArray[np.float32]]:
    """Split the score of each term of a row by field, in proportion to its frequency."""
    out: dict[str, npt.NDArray[np.float32]] = {}
    for term, weight in weights.items():
        index = segment.index_of(term)
        if index == ABSENT:
            continue
        at = int(np.searchsorted(segment.rows_of(index), row))
        if at < len(segment.rows_of(index)) and segment.rows_of(index)[at] == row:
            fields = by_field(
                segment.counts_of(index)[at : at + 1], segment.lengths[row : row + 1], averages
            )
            whole = fields.sum(axis=1)
            out[term] = (weight * saturated(whole) * fields / whole)[0]
    return out


def rows_with(segment: WordsSegment, terms: Sequence[str], *, every: bool) -> Mask:
    """Return the rows that contain all of the terms, or any of them."""
    mask = np.full(len(segment), every and bool(terms))
    for term in terms:
        index = segment.index_of(term)
        own = np.zeros(len(segment), dtype=bool)
        if index != ABSENT:
            own[segment.rows_of(index)] = True
        mask = mask & own if every else mask | own
    return mask


def rows_with_phrase(segment: WordsSegment, terms: Sequence[str], offsets: Sequence[int]) -> Mask:
    """Return the rows that contain the terms at these relative positions."""
    mask = np.zeros(len(segment), dtype=bool)
    rows = np.flatnonzero(rows_with(segment, terms, every=True)).astype(np.int32)
    if not len(rows):
        return mask
    starts: npt.NDArray[np.int64] | None = None
    for term, offset in zip(terms, offsets, strict=True):
        places = segment.occurrences(segment.index_of(term), rows) - offset
        starts = places if starts is None else np.intersect1d(starts, places)
    if starts is not None:
        mask[(starts >> 16)[(starts & 0xFFFF) < ABOUT_POSITION]] = True
    return mask


def with_phrase(segment: WordsSegment, phrase: str, analysers: Sequence[Analyser]) -> Mask:
    """Return the rows that contain a phrase in any language.

    Stop words match any word.
    """
    mask = np.zeros(len(segment), dtype=bool)
    for analyser in analysers:
        terms, places = analyser.positions(phrase)
        # Of a compound that is indexed whole and in parts, the whole is enough.
        first = [
            index for index in range(len(terms)) if index == 0 or places[index] != places[index - 1]
        ]
        if first:
            mask |= rows_with_phrase(
                segment, [terms[i] for i in first], [int(places[i]) for i in first]
            )
    return mask
