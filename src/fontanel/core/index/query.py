"""What a search asks, and what it finds."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

import numpy as np
import numpy.typing as npt

from fontanel.core.index.match import (
    DOCUMENT_WEIGHT,
)
from fontanel.core.index.segments import Ids
from fontanel.facts import KEYWORD_WEIGHT

Floats = npt.NDArray[np.float32]


class Mode(StrEnum):
    """How passages are found: by words, by meaning, or by both."""

    LEXICAL = "lexical"
    VECTOR = "vector"
    HYBRID = "hybrid"


@dataclass(frozen=True, slots=True)
class Query:
    """A search. `vector` is the question's unit vector, by the edition's own embedder; without one, words alone decide.

    `documents` are the keys of the documents to look in; None means all. With `operators` the text may hold phrases in
    quotes, +required, -excluded and beginnings* of words. `keyword_weight` is the share of words in the blend, `document_weight` that of
    the document's best passages in the score of each; `boosts` raises the scores of documents by their keys; `fold` shows passages that say the same once; `join` shows passages that follow each other in a document as one; `explain`
    tells what each field gave.
    """

    text: str
    vector: Floats | None = None
    mode: Mode = Mode.HYBRID
    limit: int = 10
    documents: Ids | None = None
    per_document: int = 3
    operators: bool = False
    keyword_weight: float = KEYWORD_WEIGHT
    document_weight: float = DOCUMENT_WEIGHT
    boosts: Mapping[int, float] = field(default_factory=dict)
    fold: bool = True
    join: bool = False
    explain: bool = False


@dataclass(frozen=True, slots=True)
class Candidate:
    """A passage that a search found. `score` orders the results of one search; `match` (0-1) compares across searches.

    `lexical` is the BM25 score and `coverage` its share of the best score attainable; `similarity` is the cosine, None
    while the passage has no vector. `terms` gives what each matching term added to the lexical score, `fields` the same by
    field, in the order of `FIELDS`, when the search was to explain itself; `window` is the cosine of its nearest sentence window, of which
    and of its own cosine `similarity` is the mean; `keyword_part`, `semantic_part` and `document_part` (0 where words and meaning are not blended) add up to the score before `boost` multiplies it.
    `also` are the passages folded into this one, which say the same; `beside` those joined to it, which stand right before and
    after it.
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
    beside: tuple[int, ...] = ()
