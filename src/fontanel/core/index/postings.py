"""Postings and their impacts: BM25 over fields, in array operations.

BM25F as in Robertson and Zaragoza, "The Probabilistic Relevance Framework: BM25 and Beyond" (2009),
section 3.6: term frequencies are weighted by field, normalised by field length, added up, then
saturated once. Mean lengths are rounded to steps of a sixth, so that a single document changes no
impact, and impacts can be stored with the postings.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from fontanel.core.arrays import Floats

#: The fields of a passage, in the order of their frequencies in postings.
FIELDS = ("title", "heading", "body", "about")
FIELD_WEIGHTS = np.array([0.8, 1.2, 1.0, 0.3], dtype=np.float32)
#: How much a field's length counts against it.
FIELD_B = np.array([0.3, 0.4, 0.6, 0.3], dtype=np.float32)
K1 = 1.2

#: Words between the last of one field and the first of the next: no phrase runs over fields.
FIELD_GAP = 100
#: Later positions are not stored; passages are much shorter.
_MAX_POSITION = 65_535
#: Where words begin that are about the document, not in the passage. Phrases do not match there.
ABOUT_POSITION = 60_000
#: The maximum count of a term in one field of a passage.
_MAX_COUNT = 255
_AVERAGE_STEP = np.log(7 / 6)
#: Min-hashes of each passage's body, for detecting near-duplicates.
SKETCH = 8
_MULTIPLIERS = np.array(
    [
        0x9E3779B1,
        0x85EBCA77,
        0xC2B2AE3D,
        0x27D4EB2F,
        0x165667B1,
        0xD3A2646D,
        0xFD7046C5,
        0xB55A4F09,
    ],
    dtype=np.uint64,
)


@dataclass(frozen=True, slots=True)
class WordsEntry:
    """What keyword indexing needs of a passage.

    Its id, the terms of each field in the order of `FIELDS`, and the index of the word each term
    was derived from (by default, its own).
    """

    passage_id: int
    document_key: int
    terms: tuple[Sequence[str], ...]
    positions: tuple[npt.NDArray[np.int32], ...] | None = None


def build_postings(
    entries: Sequence[WordsEntry], averages: Floats | None = None
) -> dict[str, npt.NDArray[Any]]:
    """Return the arrays of a keyword segment.

    Sorted terms, and for each its postings (row, frequency by field, impact) and positions.

    Args:
        averages: The mean field lengths that the impacts assume; by default the entries' own.
    """
    entries = sorted(entries, key=lambda entry: entry.passage_id)
    lengths = np.array([[len(terms) for terms in entry.terms] for entry in entries], dtype=np.int32)
    lengths = lengths.reshape(-1, len(FIELDS))
    ids: dict[str, int] = {}
    flat = [
        ids.setdefault(term, len(ids))
        for entry in entries
        for field in entry.terms
        for term in field
    ]
    codes = np.array(flat, dtype=np.int64)
    fields = np.repeat(
        np.tile(np.arange(len(FIELDS), dtype=np.uint8), len(entries)), lengths.ravel()
    )
    rows = np.repeat(np.arange(len(entries), dtype=np.int64), lengths.sum(axis=1))
    encoded = [term.encode() for term in ids]
    order = sorted(range(len(encoded)), key=encoded.__getitem__)
    rank = np.empty(len(order), dtype=np.int64)
    rank[order] = np.arange(len(order))
    terms = [encoded[index] for index in order]
    # One sort by term, then passage, then position: the order of reading is preserved.
    occurrences = np.argsort((rank[codes] << 32) | rows, kind="stable")
    codes, rows, fields = rank[codes][occurrences], rows[occurrences], fields[occurrences]
    positions = _positions(entries)[occurrences]
    first = (
        np.flatnonzero(
            np.concatenate([[True], (codes[1:] != codes[:-1]) | (rows[1:] != rows[:-1])])
        )
        if len(codes)
        else np.zeros(0, dtype=np.int64)
    )
    posting = np.repeat(np.arange(len(first)), np.diff(np.append(first, len(codes))))
    exact = np.zeros((len(first), len(FIELDS)), dtype=np.int64)
    np.add.at(exact, (posting, fields), 1)
    counts = np.minimum(exact, _MAX_COUNT).astype(np.uint8)
    starts = np.searchsorted(codes[first], np.arange(len(terms) + 1)).astype(np.int64)
    averages = (
        rounded_averages(lengths.sum(axis=0, dtype=np.float64), len(entries))
        if averages is None
        else averages
    )
    posting_rows = rows[first].astype(np.int32)
    return {
        "passage_ids": np.array([entry.passage_id for entry in entries], dtype=np.int64),
        "document_keys": np.array([entry.document_key for entry in entries], dtype=np.int64),
        "lengths": lengths,
        "sketches": _sketches(entries),
        **pack_terms(terms),
        "posting_starts": starts,
        "posting_rows": posting_rows,
        "posting_counts": counts,
        "posting_positions": np.append(first, len(codes)).astype(np.int64),
        "positions": positions,
        **impact_arrays(posting_rows, counts, lengths, starts, averages),
    }


def _positions(entries: Sequence[WordsEntry]) -> npt.NDArray[np.uint16]:
    """For each occurrence, in order, which word of its passage it is, over all fields."""
    parts: list[npt.NDArray[np.int32]] = []
    for entry in entries:
        base = 0
        for field, terms in enumerate(entry.terms):
            own = (
                entry.positions[field]
                if entry.positions is not None
                else np.arange(len(terms), dtype=np.int32)
            )
            base = ABOUT_POSITION if FIELDS[field] == "about" else base
            parts.append(own + base)
            base += FIELD_GAP + (int(own[-1]) + 1 if len(own) else 0)
    joined = np.concatenate(parts) if parts else np.zeros(0, dtype=np.int32)
    return np.minimum(joined, _MAX_POSITION).astype(np.uint16)


def impact_arrays(
    rows: npt.NDArray[np.int32],
    counts: npt.NDArray[np.uint8],
    lengths: npt.NDArray[np.int32],
    starts: npt.NDArray[np.int64],
    averages: Floats,
) -> dict[str, npt.NDArray[Any]]:
    """Return the impacts of postings, the maximum of each term, and the averages used."""
    result = np.empty(len(rows), dtype=np.float32)
    for start in range(0, len(rows), 1 << 20):
        span = slice(start, start + (1 << 20))
        result[span] = impacts(counts[span], lengths[rows[span]], averages)
    largest = (
        np.maximum.reduceat(result, starts[:-1]) if len(result) else np.zeros(0, dtype=np.float32)
    )
    return {
        "posting_impacts": result,
        "term_impacts": largest,
        "averages": averages.astype(np.float32),
    }


def pack_terms(terms: Sequence[bytes]) -> dict[str, npt.NDArray[Any]]:
    """Return sorted terms as bytes, the order of their hashes, and their letter sets.

    Hashes are for exact lookup, letter sets for similar terms.
    """
    starts = np.zeros(len(terms) + 1, dtype=np.int64)
    np.cumsum([len(term) for term in terms], out=starts[1:])
    hashes = np.array([term_hash(term) for term in terms], dtype=np.uint64)
    order = np.argsort(hashes, kind="stable")
    return {
        "term_bytes": np.frombuffer(b"".join(terms), dtype=np.uint8),
        "term_starts": starts,
        "term_hashes": hashes[order],
        "term_order": order.astype(np.int32),
        "term_letters": np.array([letters(term) for term in terms], dtype=np.uint64),
    }


def term_hash(term: bytes) -> int:
    return int.from_bytes(hashlib.blake2b(term, digest_size=8).digest(), "little")


def letters(term: bytes) -> int:
    """Return a 64-bit set of the byte pairs of a term.

    Similar words differ in few bits.
    """
    bits = 0
    for first, second in zip(b"^" + term, term + b"$", strict=True):
        bits |= 1 << ((first * 31 + second * 7) % 64)
    return bits


def rounded_averages(totals: npt.NDArray[np.float64], passages: int) -> Floats:
    """Return mean field lengths rounded to sixths; 1 for a field that is always empty."""
    means = np.maximum(totals / max(passages, 1), 1e-6)
    rounded: Floats = np.exp(np.round(np.log(means) / _AVERAGE_STEP) * _AVERAGE_STEP).astype(
        np.float32
    )
    return np.where(totals > 0, rounded, np.float32(1.0)).astype(np.float32)


def idf(passages: int, matching: int) -> float:
    """Inverse document frequency, never negative."""
    return float(np.log1p((passages - matching + 0.5) / (matching + 0.5)))


def impacts(
    counts: npt.NDArray[np.uint8], lengths: npt.NDArray[np.int32], averages: Floats
) -> Floats:
    """Return the saturated weights of postings before idf, shape (postings,).

    Args:
        counts: Shape (postings, fields).
        lengths: Shape (postings, fields).
    """
    return saturated(by_field(counts, lengths, averages).sum(axis=1))


def by_field(
    counts: npt.NDArray[np.uint8], lengths: npt.NDArray[np.int32], averages: Floats
) -> Floats:
    """Return the contribution of each field to a term's frequency: (postings, fields)."""
    norm = 1.0 - FIELD_B + FIELD_B * (lengths / averages)
    weighted: Floats = (FIELD_WEIGHTS * counts / norm).astype(np.float32)
    return weighted


def saturated(frequency: Floats) -> Floats:
    result: Floats = (frequency * np.float32(K1 + 1.0) / (frequency + np.float32(K1))).astype(
        np.float32
    )
    return result


def _sketches(entries: Sequence[WordsEntry]) -> npt.NDArray[np.uint32]:
    """Return min-hashes of the word pairs of each body, 0 for a body without pairs.

    The share of equal hashes estimates the share of common pairs (Broder, "On the resemblance and
    containment of documents", 1997).
    """
    out = np.zeros((len(entries), SKETCH), dtype=np.uint32)
    hashed: dict[str, int] = {}
    for row, entry in enumerate(entries):
        body = entry.terms[2]
        if len(body) < 2:
            continue
        codes = np.array(
            [
                hashed.get(term) or hashed.setdefault(term, term_hash(term.encode()) & 0xFFFFFFFF)
                for term in body
            ],
            dtype=np.uint64,
        )
        pairs = (codes[:-1] * np.uint64(0x9E3779B97F4A7C15)) ^ codes[1:]
        mixed = (pairs[:, None] ^ (pairs[:, None] >> np.uint64(29))) * _MULTIPLIERS
        out[row] = ((mixed >> np.uint64(32)) & np.uint64(0xFFFFFFFF)).min(axis=0)
    return out
