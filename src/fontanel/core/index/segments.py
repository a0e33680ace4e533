"""Immutable segments of keywords or vectors: written once, merged into new ones."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from pathlib import Path
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np
import numpy.typing as npt

from fontanel.core.arrays import Floats, Ids, Rows
from fontanel.core.index.cells import Cells
from fontanel.core.index.files import let_go, open_arrays, write_arrays
from fontanel.core.index.postings import WordsEntry, build_postings, impacts, term_hash

#: Index of a term in a segment that has none such.
#: The most alike terms that are compared with a misspelled word.
_MAX_ALIKE = 2000
ABSENT = -1


class WordsSegment:
    """Postings of a set of passages.

    Rows are positions in the ascending `passage_ids`.
    """

    def __init__(self, arrays: dict[str, npt.NDArray[Any]], about: dict[str, Any]) -> None:
        self.passage_ids: Ids = arrays["passage_ids"]
        self.document_keys: Ids = arrays["document_keys"]
        self.lengths: npt.NDArray[np.int32] = arrays["lengths"]
        self.sketches: npt.NDArray[np.uint32] = arrays["sketches"]
        self.averages: Floats = arrays["averages"]
        self.languages: frozenset[str] = frozenset(about.get("languages", ["en"]))
        #: Words in each field, over all passages.
        self.totals = np.array(about["totals"], dtype=np.float64)
        self._arrays = arrays
        self._starts = arrays["posting_starts"]
        self._rows: Rows = arrays["posting_rows"]
        self._counts: npt.NDArray[np.uint8] = arrays["posting_counts"]
        self._impacts: Floats = arrays["posting_impacts"]
        self._found: dict[str, int] = {}
        self._asked = self.averages, True

    @classmethod
    def open(cls, path: Path) -> WordsSegment:
        return cls(*open_arrays(path))

    @classmethod
    def build(
        cls,
        entries: Sequence[WordsEntry],
        languages: Sequence[str] = ("en",),
        averages: Floats | None = None,
    ) -> WordsSegment:
        arrays = build_postings(entries, averages)
        totals = arrays["lengths"].sum(axis=0, dtype=np.float64)
        return cls(arrays, {"languages": list(languages), "totals": totals.tolist()})

    def __len__(self) -> int:
        return len(self.passage_ids)

    @property
    def term_count(self) -> int:
        return len(self._starts) - 1

    def term(self, index: int) -> bytes:
        starts = self._arrays["term_starts"]
        return self._arrays["term_bytes"][starts[index] : starts[index + 1]].tobytes()

    def index_of(self, term: str) -> int:
        """The term's index, or ABSENT."""
        result = self._found.get(term)
        if result is None:
            requested = term.encode()
            hashes, hashed = self._arrays["term_hashes"], term_hash(requested)
            place = int(np.searchsorted(hashes, np.uint64(hashed)))
            result = ABSENT
            while place < len(hashes) and int(hashes[place]) == hashed:
                index = int(self._arrays["term_order"][place])
                if self.term(index) == requested:
                    result = index
                    break
                place += 1
            if len(self._found) > 50_000:
                self._found.clear()
            self._found[term] = result
        return result

    def terms_from(self, prefix: str, most: int) -> list[str]:
        """Terms that begin so, in their order."""
        requested = prefix.encode()
        low, high = 0, self.term_count
        while low < high:
            middle = (low + high) // 2
            if self.term(middle) < requested:
                low = middle + 1
            else:
                high = middle
        results: list[str] = []
        while (
            low < self.term_count
            and len(results) < most
            and (term := self.term(low)).startswith(requested)
        ):
            results.append(term.decode())
            low += 1
        return results

    def alike(self, bits: int, max_different: int) -> list[bytes]:
        """Return terms whose letters differ from `bits` in few places, the most alike first."""
        difference = np.bitwise_count(self._arrays["term_letters"] ^ np.uint64(bits))
        near = np.flatnonzero(difference <= max_different)
        near = near[np.argsort(difference[near], kind="stable")][:_MAX_ALIKE]
        return [self.term(int(index)) for index in near]

    def living(self, dead: Ids) -> npt.NDArray[np.bool_] | None:
        """Return which rows are not among the ascending dead ids; None if all are not."""
        rows = self.locate(dead)
        rows = rows[rows >= 0]
        if not len(rows):
            return None
        mask = np.ones(len(self), dtype=bool)
        mask[rows] = False
        return mask

    def rows_of(self, index: int) -> Rows:
        """Return the rows that contain a term, ascending."""
        return self._rows[self._starts[index] : self._starts[index + 1]]

    def counts_of(self, index: int) -> npt.NDArray[np.uint8]:
        return self._counts[self._starts[index] : self._starts[index + 1]]

    def _made_for(self, averages: Floats) -> bool:
        """Return whether the stored impacts assume these averages, usually the same array."""
        asked, same = self._asked
        if averages is not asked:
            same = np.array_equal(averages, self.averages)
            self._asked = averages, same
        return same

    def impacts_of(self, index: int, averages: Floats) -> Floats:
        """Return the impacts of a term's postings for these averages, stored or computed."""
        if self._made_for(averages):
            return self._impacts[self._starts[index] : self._starts[index + 1]]
        return impacts(self.counts_of(index), self.lengths[self.rows_of(index)], averages)

    def largest_impact(self, index: int, averages: Floats) -> float:
        if self._made_for(averages):
            return float(self._arrays["term_impacts"][index])
        return float(self.impacts_of(index, averages).max(initial=0.0))

    def occurrences(self, index: int, rows: Rows) -> npt.NDArray[np.int64]:
        """Return the occurrences of a term in some rows.

        Row * 65536 + position, ascending.
        """
        stored = self.rows_of(index)
        postings = int(self._starts[index]) + np.searchsorted(stored, rows)
        starts = self._arrays["posting_positions"]
        counts = starts[postings + 1] - starts[postings]
        ends = np.cumsum(counts)
        inside = np.arange(int(ends[-1]) if len(ends) else 0) - np.repeat(ends - counts, counts)
        places = self._arrays["positions"][np.repeat(starts[postings], counts) + inside]
        keys: npt.NDArray[np.int64] = np.repeat(rows.astype(np.int64), counts) * 65_536 + places
        return keys

    def locate(self, passage_ids: Ids) -> npt.NDArray[np.int64]:
        """The rows of passages; -1 for those that are not here."""
        if not len(self.passage_ids):
            return np.full(len(passage_ids), -1, dtype=np.int64)
        places = np.searchsorted(self.passage_ids, passage_ids).clip(max=len(self.passage_ids) - 1)
        return np.where(self.passage_ids[places] == passage_ids, places, -1)

    def arrays(self) -> dict[str, npt.NDArray[Any]]:
        return self._arrays

    def let_go(self) -> None:
        """Release the memory of its mapped file until it is read again."""
        let_go(self.passage_ids)


class VectorSegment:
    """Unit vectors of passages: float32, or int8 with a scale each.

    Large ones in cells.

    A segment of sentence windows has several vectors per passage.
    """

    def __init__(
        self,
        passage_ids: Ids,
        vectors: npt.NDArray[np.float32] | npt.NDArray[np.int8],
        scales: Floats | None = None,
        cells: Cells | None = None,
    ) -> None:
        self.passage_ids = passage_ids
        self.vectors = vectors
        self.scales = scales
        self.cells = cells
        self._places: WeakKeyDictionary[WordsSegment, Rows] = WeakKeyDictionary()

    @classmethod
    def open(cls, path: Path) -> VectorSegment:
        arrays, about = open_arrays(path)
        return cls(
            arrays["passage_ids"], arrays["vectors"], arrays.get("scales"), Cells.of(arrays, about)
        )

    @classmethod
    def packed(cls, passage_ids: Ids, vectors: Floats) -> VectorSegment:
        """Quantise vectors to bytes, scaled to the largest component of each."""
        scales = np.maximum(np.abs(vectors).max(axis=1), 1e-12).astype(np.float32) / np.float32(
            127.0
        )
        return cls(passage_ids, np.rint(vectors / scales[:, None]).astype(np.int8), scales)

    def __len__(self) -> int:
        return len(self.passage_ids)

    def floats(self, rows: slice | npt.NDArray[np.integer[Any]]) -> Floats:
        """Some of the vectors as float32."""
        result = self.vectors[rows]
        if self.scales is None:
            return result  # type: ignore[return-value]
        scaled: Floats = result.astype(np.float32) * self.scales[rows][:, None]
        return scaled

    def cosines(
        self, query: Floats, rows: slice | npt.NDArray[np.integer[Any]] = slice(None)
    ) -> Floats:
        """The inner products with some of the vectors."""
        if self.scales is None:
            result: Floats = self.vectors[rows] @ query
            return result
        parts: list[Floats] = []
        numbers = np.arange(len(self))[rows]
        for start in range(0, len(numbers), 8192):
            # A block at a time stays in the cache between widening and multiplying.
            some = numbers[start : start + 8192]
            parts.append((self.vectors[some].astype(np.float32) @ query) * self.scales[some])
        return np.concatenate(parts) if parts else np.zeros(0, dtype=np.float32)

    @cached_property
    def _by_passage(self) -> tuple[Ids, npt.NDArray[np.int64]]:
        """The passages of the vectors in ascending order, and the order that puts them so."""
        order = np.argsort(self.passage_ids, kind="stable")
        return self.passage_ids[order], order

    def largest_cosines(self, query: Floats, passage_ids: Ids) -> Floats:
        """Return the largest inner product of each passage's vectors.

        NaN without any here.
        """
        ids, order = self._by_passage
        starts = np.searchsorted(ids, passage_ids)
        counts = np.searchsorted(ids, passage_ids, side="right") - starts
        result = np.full(len(passage_ids), np.nan, dtype=np.float32)
        there = np.flatnonzero(counts)
        if len(there):
            ends = np.cumsum(counts[there])
            begins = ends - counts[there]
            inside = np.arange(int(ends[-1])) - np.repeat(begins, counts[there])
            rows = order[np.repeat(starts[there], counts[there]) + inside]
            result[there] = np.maximum.reduceat(self.cosines(query, rows), begins)
        return result

    def let_go(self) -> None:
        """As of `WordsSegment`."""
        let_go(self.vectors)

    def rows_in(self, words: WordsSegment) -> Rows:
        """Return the row of each vector's passage in a keyword segment, or -1; cached."""
        result = self._places.get(words)
        if result is None:
            same = len(words) == len(self) and np.array_equal(words.passage_ids, self.passage_ids)
            result = (np.arange(len(self)) if same else words.locate(self.passage_ids)).astype(
                np.int32
            )
            self._places[words] = result
        return result


def write_words(path: Path, segment: WordsSegment) -> None:
    about = {
        "kind": "words",
        "languages": sorted(segment.languages),
        "totals": segment.totals.tolist(),
    }
    write_arrays(path, segment.arrays(), about)


def write_vectors(path: Path, segment: VectorSegment) -> None:
    arrays: dict[str, npt.NDArray[Any]] = {
        "passage_ids": segment.passage_ids,
        "vectors": segment.vectors,
    }
    about: dict[str, Any] = {"kind": "vectors"}
    if segment.scales is not None:
        arrays["scales"] = segment.scales
    if segment.cells is not None:
        arrays.update(segment.cells.arrays())
        about.update(segment.cells.about())
    write_arrays(path, arrays, about)
