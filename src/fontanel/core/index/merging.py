"""Merging: several segments become one, with the passages that are gone left out."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from fontanel.core.arrays import Floats, Mask
from fontanel.core.index.cells import MIN_VECTORS, partition
from fontanel.core.index.postings import impact_arrays, pack_terms, rounded_averages
from fontanel.core.index.segments import VectorSegment, WordsSegment


def merge_words(
    segments: Sequence[WordsSegment], alive: Sequence[Mask], averages: Floats | None = None
) -> WordsSegment:
    """Merge segments into one without dead passages, ascending by id.

    Args:
        averages: The averages that its impacts assume; by default its own.
    """
    ids = np.concatenate(
        [segment.passage_ids[mask] for segment, mask in zip(segments, alive, strict=True)]
    )
    order = np.argsort(ids, kind="stable")
    rank = np.empty(len(ids), dtype=np.int64)
    rank[order] = np.arange(len(ids))
    new_rows: list[npt.NDArray[np.int64]] = []
    base = 0
    for mask in alive:
        rows = np.full(len(mask), -1, dtype=np.int64)
        count = int(mask.sum())
        rows[mask] = rank[base : base + count]
        base += count
        new_rows.append(rows)

    vocabularies = [
        [segment.term(index) for index in range(segment.term_count)] for segment in segments
    ]
    terms = sorted(set().union(*vocabularies))
    index_of = {term: index for index, term in enumerate(terms)}
    keys: list[npt.NDArray[np.int64]] = []
    kept: list[Mask] = []
    for segment, vocabulary, rows in zip(segments, vocabularies, new_rows, strict=True):
        codes = np.fromiter(
            map(index_of.__getitem__, vocabulary), dtype=np.int64, count=len(vocabulary)
        )
        of_posting = np.repeat(codes, np.diff(segment.arrays()["posting_starts"]))
        moved = rows[segment.arrays()["posting_rows"]]
        kept.append(moved >= 0)
        keys.append((of_posting[kept[-1]] << 32) | moved[kept[-1]])
    key = np.concatenate(keys) if keys else np.zeros(0, dtype=np.int64)
    postings = np.argsort(key, kind="stable")
    key = key[postings]

    counts = np.concatenate(
        [s.arrays()["posting_counts"][mask] for s, mask in zip(segments, kept, strict=True)]
    )
    positions, starts_of = _positions(segments, kept, postings)
    # Terms whose passages are all gone are gone.
    stored, first = np.unique(key >> 32, return_index=True)
    starts = np.append(first, len(key)).astype(np.int64)
    posting_rows: npt.NDArray[np.int32] = (key & 0xFFFFFFFF).astype(np.int32)
    lengths = np.concatenate([s.lengths[mask] for s, mask in zip(segments, alive, strict=True)])[
        order
    ]
    totals = lengths.sum(axis=0, dtype=np.float64)
    if averages is None:
        averages = rounded_averages(totals, len(ids))
    arrays: dict[str, npt.NDArray[Any]] = {
        "passage_ids": ids[order],
        "document_keys": np.concatenate(
            [s.document_keys[m] for s, m in zip(segments, alive, strict=True)]
        )[order],
        "lengths": lengths,
        "sketches": np.concatenate([s.sketches[m] for s, m in zip(segments, alive, strict=True)])[
            order
        ],
        **pack_terms([terms[index] for index in stored]),
        "posting_starts": starts,
        "posting_rows": posting_rows,
        "posting_counts": counts[postings],
        "posting_positions": starts_of,
        "positions": positions,
        **impact_arrays(posting_rows, counts[postings], lengths, starts, averages),
    }
    languages = frozenset().union(*(segment.languages for segment in segments))
    return WordsSegment(arrays, {"languages": sorted(languages), "totals": totals.tolist()})


def _positions(
    segments: Sequence[WordsSegment], kept: Sequence[Mask], postings: npt.NDArray[np.int64]
) -> tuple[npt.NDArray[np.uint16], npt.NDArray[np.int64]]:
    """Return the positions of the kept postings in their new order, and their starts."""
    begins: list[npt.NDArray[np.int64]] = []
    counts: list[npt.NDArray[np.int64]] = []
    base = 0
    for segment, mask in zip(segments, kept, strict=True):
        starts = segment.arrays()["posting_positions"]
        begins.append(starts[:-1][mask] + base)
        counts.append(np.diff(starts)[mask])
        base += len(segment.arrays()["positions"])
    begin = np.concatenate(begins)[postings] if begins else np.zeros(0, dtype=np.int64)
    count = np.concatenate(counts)[postings] if counts else np.zeros(0, dtype=np.int64)
    everything = np.concatenate([segment.arrays()["positions"] for segment in segments])
    ends = np.cumsum(count)
    inside = np.arange(int(ends[-1]) if len(ends) else 0) - np.repeat(ends - count, count)
    return everything[np.repeat(begin, count) + inside], np.concatenate([[0], ends]).astype(
        np.int64
    )


def merge_vectors(
    segments: Sequence[VectorSegment],
    alive: Sequence[Mask],
    least: int = MIN_VECTORS,
    *,
    pack: bool = False,
) -> VectorSegment:
    """Merge vector segments without dead passages.

    From `least` vectors on the result is clustered, and with `pack` stored as bytes too.
    """
    ids = np.concatenate(
        [segment.passage_ids[mask] for segment, mask in zip(segments, alive, strict=True)]
    )
    packed = any(segment.scales is not None for segment in segments) or (pack and len(ids) >= least)
    vectors = np.concatenate(
        [s.floats(np.flatnonzero(m)) for s, m in zip(segments, alive, strict=True)]
    )
    order = np.argsort(ids, kind="stable")
    cells = None
    if len(ids) >= least:
        order, cells = partition(vectors)
    ids, vectors = ids[order], vectors[order]
    merged = VectorSegment.packed(ids, vectors) if packed else VectorSegment(ids, vectors)
    merged.cells = cells
    return merged
