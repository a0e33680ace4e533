"""Lexical scoring: BM25 over fields, in array operations.

BM25F as in Robertson and Zaragoza, "The Probabilistic Relevance Framework: BM25 and Beyond" (2009), section 3.6: term
frequencies are weighted by field and normalised by field length, added up, then saturated once.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

#: The fields of a passage, in the order in which postings hold their frequencies.
FIELDS = ("title", "heading", "body", "about")
FIELD_WEIGHTS = np.array([0.8, 1.2, 1.0, 0.3], dtype=np.float32)
#: How much a field's length counts against it.
FIELD_B = np.array([0.3, 0.4, 0.6, 0.3], dtype=np.float32)
K1 = 1.2

Floats = npt.NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class WordsEntry:
    """What indexing by words needs of a passage: its ids and the terms of each field, in the order of `FIELDS`."""

    passage_id: int
    document_key: int
    terms: tuple[Sequence[str], ...]


def build_postings(entries: Sequence[WordsEntry]) -> dict[str, npt.NDArray[Any]]:
    """Return the arrays of a words segment: sorted terms, and for each its postings (row, frequency by field)."""
    postings: dict[str, list[tuple[int, tuple[int, ...]]]] = {}
    lengths = np.zeros((len(entries), len(FIELDS)), dtype=np.int32)
    for row, entry in enumerate(entries):
        found: dict[str, list[int]] = {}
        for field, terms in enumerate(entry.terms):
            lengths[row, field] = len(terms)
            for term, count in Counter(terms).items():
                found.setdefault(term, [0] * len(FIELDS))[field] = min(count, 255)
        for term, counts in found.items():
            postings.setdefault(term, []).append((row, tuple(counts)))
    ordered = sorted((term.encode(), rows) for term, rows in postings.items())
    starts = np.zeros(len(ordered) + 1, dtype=np.int64)
    np.cumsum([len(rows) for _, rows in ordered], out=starts[1:])
    flat = [posting for _, rows in ordered for posting in rows]
    return {
        "passage_ids": np.array([entry.passage_id for entry in entries], dtype=np.int64),
        "document_keys": np.array([entry.document_key for entry in entries], dtype=np.int64),
        "lengths": lengths,
        **pack_terms([term for term, _ in ordered]),
        "posting_starts": starts,
        "posting_rows": np.array([row for row, _ in flat], dtype=np.int32),
        "posting_counts": np.array([counts for _, counts in flat], dtype=np.uint8).reshape(-1, len(FIELDS)),
    }


def pack_terms(terms: Sequence[bytes]) -> dict[str, npt.NDArray[Any]]:
    starts = np.zeros(len(terms) + 1, dtype=np.int64)
    np.cumsum([len(term) for term in terms], out=starts[1:])
    return {"term_bytes": np.frombuffer(b"".join(terms), dtype=np.uint8), "term_starts": starts}


def idf(passages: int, matching: int) -> float:
    """Inverse document frequency, never negative."""
    return float(np.log1p((passages - matching + 0.5) / (matching + 0.5)))


def impacts(counts: npt.NDArray[np.uint8], lengths: npt.NDArray[np.int32], averages: Floats) -> Floats:
    """The saturated weight of postings before idf. `counts` and `lengths` are (postings, fields), result (postings,)."""
    norm = 1.0 - FIELD_B + FIELD_B * (lengths / np.maximum(averages, 1e-6))
    frequency = (FIELD_WEIGHTS * counts / norm).sum(axis=1)
    saturated: Floats = (frequency * (K1 + 1.0) / (frequency + K1)).astype(np.float32)
    return saturated
