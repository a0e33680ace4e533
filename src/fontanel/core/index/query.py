"""A search and its candidates."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from fontanel.core.arrays import Floats, Ids
from fontanel.core.embedding.comparable import Scale
from fontanel.core.index.match import (
    DOCUMENT_WEIGHT,
)
from fontanel.facts import KEYWORD_WEIGHT


class Mode(StrEnum):
    """How passages are found: by keywords, by vectors, or both."""

    LEXICAL = "lexical"
    VECTOR = "vector"
    HYBRID = "hybrid"


@dataclass(frozen=True, slots=True)
class Query:
    """A search.

    `vector` is the question's unit vector, by the edition's own embedder; None: keywords only.
    `documents` are the keys of the documents to search, None for all; `without` are those to leave
    out. With `operators`, the text
    may contain quoted phrases, +required, -excluded and prefix* words. `keyword_weight` is the
    share of keywords in the combined score, `document_weight` that of the document's best passages;
    `boosts` multiplies scores of documents by their keys. `fold` groups near-duplicates, `join`
    merges adjacent passages of a document, `explain` returns scores by field.
    """

    text: str
    vector: Floats | None = None
    mode: Mode = Mode.HYBRID
    limit: int = 10
    documents: Ids | None = None
    without: Ids | None = None
    per_document: int = 3
    operators: bool = False
    keyword_weight: float = KEYWORD_WEIGHT
    document_weight: float = DOCUMENT_WEIGHT
    boosts: Mapping[int, float] = field(default_factory=dict)
    fold: bool = True
    join: bool = False
    explain: bool = False
    scale: Scale = field(default_factory=Scale)
    """Maps the cosines of the edition's embedder to those that scores are calibrated for."""


@dataclass(frozen=True, slots=True)
class Candidate:
    """A passage that a search found.

    `score` orders the results of one search; `match` (0-1) is comparable across searches. `lexical`
    is the BM25 score, and `coverage` its share of the maximum attainable. `similarity` is the mean
    of the passage's cosine and that of its nearest sentence window, `window`; None while it has no
    vector. `terms` are the contributions of each term, `fields` the same by field, in the order of
    `FIELDS`, with `explain`. `keyword_part`, `semantic_part` and `document_part` add up to the
    score before `boost` multiplies it; 0 without a vector search. `also` are near-duplicates folded
    into it, `merged` the adjacent passages merged with it.
    """

    passage_id: int
    document_key: int
    score: float
    match: float
    lexical: float
    coverage: float
    similarity: float | None
    window: float | None
    terms: dict[str, float]
    fields: dict[str, tuple[float, ...]]
    keyword_part: float
    semantic_part: float
    document_part: float
    boost: float = 1.0
    also: tuple[tuple[int, int], ...] = ()
    merged: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class SearchResult:
    """The results of a search, best first, and how the question was interpreted.

    `corrected` lists, for each unknown word, the terms searched for instead; `weights` are the idf
    of each term.
    """

    candidates: list[Candidate]
    weights: dict[str, float]
    corrected: dict[str, list[str]]
    scored: int
