"""Immutable segments: words (terms and postings) and vectors. Written once, merged into new ones, never changed."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from fontanel.core.index.files import open_arrays, write_arrays
from fontanel.core.index.words import WordsEntry, build_postings, pack_terms

Ids = npt.NDArray[np.int64]


class WordsSegment:
    """Postings of a set of passages. Rows are positions in `passage_ids`."""

    def __init__(self, arrays: dict[str, npt.NDArray[Any]], about: dict[str, Any]) -> None:
        self.passage_ids: Ids = arrays["passage_ids"]
        self.document_keys: Ids = arrays["document_keys"]
        self.lengths: npt.NDArray[np.int32] = arrays["lengths"]
        self.languages: frozenset[str] = frozenset(about.get("languages", ["en"]))
        self._arrays = arrays
        self._term_bytes = arrays["term_bytes"]
        self._term_starts = arrays["term_starts"]
        self._starts = arrays["posting_starts"]
        self._rows: npt.NDArray[np.int32] = arrays["posting_rows"]
        self._counts: npt.NDArray[np.uint8] = arrays["posting_counts"]

    @classmethod
    def open(cls, path: Path) -> WordsSegment:
        return cls(*open_arrays(path))

    @classmethod
    def build(cls, entries: Sequence[WordsEntry], languages: Sequence[str] = ("en",)) -> WordsSegment:
        return cls(build_postings(entries), {"languages": list(languages)})

    def __len__(self) -> int:
        return len(self.passage_ids)

    @property
    def term_count(self) -> int:
        return len(self._term_starts) - 1

    def term(self, index: int) -> bytes:
        return self._term_bytes[self._term_starts[index] : self._term_starts[index + 1]].tobytes()

    def postings(self, term: str) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.uint8]]:
        """Rows that hold the term, and its frequency in each field: (n,), (n, fields)."""
        wanted = term.encode()
        low, high = 0, self.term_count
        while low < high:
            middle = (low + high) // 2
            if self.term(middle) < wanted:
                low = middle + 1
            else:
                high = middle
        if low < self.term_count and self.term(low) == wanted:
            return self.postings_at(low)
        return self._rows[:0], self._counts[:0]

    def postings_at(self, index: int) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.uint8]]:
        span = slice(int(self._starts[index]), int(self._starts[index + 1]))
        return self._rows[span], self._counts[span]

    def arrays(self) -> dict[str, npt.NDArray[Any]]:
        return self._arrays


class VectorSegment:
    """Unit vectors of a set of passages, float32 (passages, dimensions)."""

    def __init__(self, passage_ids: Ids, vectors: npt.NDArray[np.float32]) -> None:
        self.passage_ids = passage_ids
        self.vectors = vectors

    @classmethod
    def open(cls, path: Path) -> VectorSegment:
        arrays, _ = open_arrays(path)
        return cls(arrays["passage_ids"], arrays["vectors"])

    def __len__(self) -> int:
        return len(self.passage_ids)


def write_words(path: Path, segment: WordsSegment) -> None:
    write_arrays(path, segment.arrays(), {"kind": "words", "languages": sorted(segment.languages)})


def write_vectors(path: Path, segment: VectorSegment) -> None:
    write_arrays(path, {"passage_ids": segment.passage_ids, "vectors": segment.vectors}, {"kind": "vectors"})


def merge_words(segments: Sequence[WordsSegment], alive: Sequence[npt.NDArray[np.bool_]]) -> WordsSegment:
    """One segment with the passages of several, those that are no longer alive left out."""
    bases: list[npt.NDArray[np.int32]] = []
    total = 0
    for mask in alive:
        rows = np.full(len(mask), -1, dtype=np.int32)
        rows[mask] = np.arange(total, total + int(mask.sum()), dtype=np.int32)
        total += int(mask.sum())
        bases.append(rows)
    found: dict[bytes, list[tuple[npt.NDArray[np.int32], npt.NDArray[np.uint8]]]] = {}
    for segment, rows in zip(segments, bases, strict=True):
        for index in range(segment.term_count):
            old_rows, counts = segment.postings_at(index)
            new_rows = rows[old_rows]
            kept = new_rows >= 0
            if kept.any():
                found.setdefault(segment.term(index), []).append((new_rows[kept], counts[kept]))
    terms = sorted(found)
    starts = np.zeros(len(terms) + 1, dtype=np.int64)
    np.cumsum([sum(len(rows) for rows, _ in found[term]) for term in terms], out=starts[1:])

    def joined(name: str) -> npt.NDArray[Any]:
        return np.concatenate([segment.arrays()[name][mask] for segment, mask in zip(segments, alive, strict=True)])

    arrays = {
        **{name: joined(name) for name in ("passage_ids", "document_keys", "lengths")},
        **pack_terms(terms),
        "posting_starts": starts,
        "posting_rows": np.concatenate(
            [rows for term in terms for rows, _ in found[term]] or [np.zeros(0, dtype=np.int32)]
        ),
        "posting_counts": np.concatenate(
            [counts for term in terms for _, counts in found[term]] or [np.zeros((0, 3), dtype=np.uint8)]
        ),
    }
    languages = frozenset().union(*(segment.languages for segment in segments))
    return WordsSegment(arrays, {"languages": sorted(languages)})


def merge_vectors(segments: Sequence[VectorSegment], alive: Sequence[npt.NDArray[np.bool_]]) -> VectorSegment:
    """One segment with the vectors of several, those of passages that are no longer alive left out."""
    return VectorSegment(
        np.concatenate([segment.passage_ids[mask] for segment, mask in zip(segments, alive, strict=True)]),
        np.concatenate([segment.vectors[mask] for segment, mask in zip(segments, alive, strict=True)]),
    )
