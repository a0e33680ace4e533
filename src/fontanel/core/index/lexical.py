"""Lexical search over a snapshot's words segments.

The best passages are found as in MaxScore (Turtle and Flood, "Query evaluation: strategies and optimizations", 1995), a term at a
time over whole arrays: terms are taken by the most that they can add; once all that is left cannot lift a passage into the
best, the postings of the terms that are left are looked up for the passages that may still get there, and never walked.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import numpy.typing as npt

from fontanel.core.index.segments import ABSENT, Rows, WordsSegment
from fontanel.core.index.words import ABOUT_POSITION, Floats, by_field, saturated

Mask = npt.NDArray[np.bool_]
#: Sums of float32 differ in their last digits by the order of the terms.
_SURE = 1.0 - 1e-5


def best_rows(
    segment: WordsSegment, weights: Mapping[str, float], averages: Floats, count: int, usable: Mask | None, floor: float
) -> tuple[Rows, Floats]:
    """The rows of a segment whose scores are the `count` highest and reach `floor`, and their scores, in no order."""
    terms = []
    for term, weight in weights.items():
        index = segment.index_of(term)
        if index != ABSENT:
            terms.append((weight * segment.largest_impact(index, averages), weight, index))
    terms.sort(reverse=True)
    rest = np.append(np.cumsum([bound for bound, _, _ in terms][::-1])[::-1], 0.0)
    sizes = [len(segment.rows_of(index)) for _, _, index in terms]
    left = np.append(np.cumsum(sizes[::-1])[::-1], 0)
    scores = np.zeros(len(segment), dtype=np.float32)
    touched: list[Rows] = []
    done = 0
    threshold = floor
    for done, (_, weight, index) in enumerate(terms, 1):
        rows = segment.rows_of(index)
        scores[rows] += np.float32(weight) * segment.impacts_of(index, averages)
        touched.append(rows)
        if left[done] > 4 * count:
            # Whether the terms that are left matter is worth a look only when they are long.
            threshold = max(floor, _nth(scores, touched, usable, count))
            if rest[done] < threshold * _SURE:
                break
    candidates = _once(touched, len(segment))
    if usable is not None:
        candidates = candidates[usable[candidates]]
    if done < len(terms):
        candidates = candidates[scores[candidates] + rest[done] >= threshold * _SURE]
    found = scores[candidates]
    for place in range(done, len(terms)):
        _, weight, index = terms[place]
        held, impacts = segment.rows_of(index), segment.impacts_of(index, averages)
        at = np.searchsorted(held, candidates).clip(max=len(held) - 1)
        found += np.where(held[at] == candidates, np.float32(weight) * impacts[at], np.float32(0.0))
    if len(found) > count:
        keep = np.argpartition(-found, count - 1)[:count]
        # Passages that tie with the last are kept: which of them come first is decided when all are known.
        keep = np.flatnonzero(found >= found[keep].min())
        candidates, found = candidates[keep], found[keep]
    return candidates, found


def _once(touched: Sequence[Rows], size: int) -> Rows:
    if len(touched) == 1:
        return touched[0]
    if not touched:
        return np.zeros(0, dtype=np.int32)
    seen = np.zeros(size, dtype=bool)
    for rows in touched:
        seen[rows] = True
    return np.flatnonzero(seen).astype(np.int32)


def _nth(scores: Floats, touched: Sequence[Rows], usable: Mask | None, count: int) -> float:
    """A score that at least `count` usable rows reach; 0 when fewer were touched."""
    rows = touched[0] if len(touched) == 1 else np.concatenate(touched)
    if usable is not None:
        rows = rows[usable[rows]]
    if len(rows) < count * len(touched):
        return 0.0
    # A row may come once for each of its terms: among so many there are `count` different ones.
    depth = count * len(touched)
    values = scores[rows]
    return float(-np.partition(-values, depth - 1)[depth - 1])


def term_scores(
    segment: WordsSegment, rows: npt.NDArray[np.int64], weights: Mapping[str, float], averages: Floats
) -> Floats:
    """What each term gives to each of some rows: (rows, terms)."""
    out = np.zeros((len(rows), len(weights)), dtype=np.float32)
    for column, (term, weight) in enumerate(weights.items()):
        index = segment.index_of(term)
        if index == ABSENT:
            continue
        held = segment.rows_of(index)
        at = np.searchsorted(held, rows).clip(max=len(held) - 1)
        hit = held[at] == rows
        out[hit, column] = np.float32(weight) * segment.impacts_of(index, averages)[at[hit]]
    return out


def field_scores(
    segment: WordsSegment, row: int, weights: Mapping[str, float], averages: Floats
) -> dict[str, npt.NDArray[np.float32]]:
    """For each term that a row holds, what each field gave of its score: in proportion to what it gave to the frequency."""
    out: dict[str, npt.NDArray[np.float32]] = {}
    for term, weight in weights.items():
        index = segment.index_of(term)
        if index == ABSENT:
            continue
        at = int(np.searchsorted(segment.rows_of(index), row))
        if at < len(segment.rows_of(index)) and segment.rows_of(index)[at] == row:
            fields = by_field(segment.counts_of(index)[at : at + 1], segment.lengths[row : row + 1], averages)
            whole = fields.sum(axis=1)
            out[term] = (weight * saturated(whole) * fields / whole)[0]
    return out


def rows_with(segment: WordsSegment, terms: Sequence[str], every: bool) -> Mask:
    """Rows that hold every one of the terms, or any of them."""
    mask = np.full(len(segment), every and bool(terms))
    for term in terms:
        index = segment.index_of(term)
        own = np.zeros(len(segment), dtype=bool)
        if index != ABSENT:
            own[segment.rows_of(index)] = True
        mask = mask & own if every else mask | own
    return mask


def rows_with_phrase(segment: WordsSegment, terms: Sequence[str], offsets: Sequence[int]) -> Mask:
    """Rows in which the terms stand at these distances from each other."""
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
