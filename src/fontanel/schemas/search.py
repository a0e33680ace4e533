"""Search."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, field_validator

from fontanel.schemas.base import LocatorOut, Model, Tags
from fontanel.schemas.validity import OutdatedOut


class SearchIn(Model):
    question: str = Field(min_length=1, max_length=2000, examples=["wind limit at the outer berth"])
    mode: Literal["hybrid", "lexical", "vector"] = "hybrid"
    depth: Literal["fast", "deep"] = Field(
        "fast",
        description=(
            "`deep` also ranks the best passages by the evidence model: slower, and better for"
            " whole questions."
        ),
    )
    limit: int = Field(10, ge=1, le=100)
    per_document: int = Field(
        3, ge=1, le=100, description="The maximum number of passages per document."
    )
    tags: Tags = Field(default_factory=dict)
    documents: list[str] | None = Field(
        None, description="Ids or names of the only documents to search."
    )
    operators: bool = Field(
        default=True,
        description=(
            'Whether "a phrase", +required, -excluded and beginnings* of words mean something.'
        ),
    )
    keyword_weight: float | None = Field(
        None,
        ge=0,
        le=1,
        description="The share of words in the blend with meaning; by default as calibrated.",
    )
    prefer_newer: bool = Field(default=False, description="Raise documents that changed lately.")
    boost: dict[str, float] = Field(
        default_factory=dict,
        max_length=20,
        description="Factors for documents with a tag.",
        examples=[{"kind=rule": 1.3}],
    )
    join_neighbours: bool = Field(
        default=False, description="Show passages that follow each other in a document as one hit."
    )
    edition: int | None = Field(
        None, ge=1, le=1_000_000, description="An edition's number; by default the active one."
    )
    explain: bool = Field(default=False, description="Return how each score was computed.")

    @field_validator("boost")
    @classmethod
    def _tags_and_factors(cls, boost: dict[str, float]) -> dict[str, float]:
        for tag, factor in boost.items():
            if "=" not in tag:
                raise ValueError(f"{tag!r} is not a tag: write key=value")
            if not 0.1 <= factor <= 10:
                raise ValueError(f"the factor of {tag} must be between 0.1 and 10")
        return boost


class SpanOut(Model):
    """Characters [start, end) of the hit's own text."""

    start: int
    end: int


class AlsoOut(Model):
    """Another document that says the same."""

    document_id: str
    document_name: str
    title: str


class NeighbourOut(Model):
    """A passage next to the hit that was also found, and merged with it."""

    passage_id: int
    start: int
    end: int
    text: str


class TermOut(Model):
    """The contribution of a term to the keyword score of a hit, in all and by field."""

    term: str
    idf: float = Field(description="The inverse document frequency of the term.")
    score: float
    title: float
    heading: float
    body: float
    about: float


class ExplanationOut(Model):
    """How a score was computed: (keyword + semantic + document part) x boost.

    The parts are shares of the best of the search; `document_part` is that of the document's best
    three passages. With depth `deep` this is the score before the evidence model ranks.
    """

    keyword_part: float
    semantic_part: float
    document_part: float
    boost: float
    coverage: float = Field(description="The lexical score as a share of the best attainable.")
    window: float | None = Field(
        description=(
            "The cosine of its nearest sentence window; `similarity` is the mean of this and of the"
            " whole passage's."
        )
    )
    terms: list[TermOut]


class HitOut(Model):
    """A passage found.

    `match` (0-1) is its relevance, comparable across questions; `lexical` is BM25, `similarity` the
    cosine (with sentence windows, the mean of its own and its nearest window's).
    """

    passage_id: int
    document_id: str
    document_name: str
    revision_id: str
    title: str
    text: str
    start: int
    end: int
    locator: LocatorOut
    match: float
    relevance: float | None = Field(
        None,
        description=(
            "How likely the passage answers the question by the evidence model, 0-1; null if it"
            " was not scored."
        ),
    )
    score: float
    lexical: float
    similarity: float | None
    terms: dict[str, float] = Field(
        description="The contribution of each matching term to the keyword score."
    )
    highlights: list[SpanOut]
    also: list[AlsoOut] = Field(description="Documents that say the same, shown once.")
    neighbours: list[NeighbourOut] = Field(
        [], description="Found passages joined to this one, in the order of the text."
    )
    outdated: OutdatedOut | None = Field(
        None, description="Why the document is not in force; null if it is."
    )
    explanation: ExplanationOut | None = None


class SearchOut(Model):
    question: str
    mode: Literal["hybrid", "lexical", "vector"]
    depth: Literal["fast", "deep"] = Field(
        "fast", description="`fast` if there is no evidence model for the language."
    )
    keyword_only: bool = Field(description="No embedder took part.")
    hits: list[HitOut]
    corrected: dict[str, list[str]] = Field(
        description="Words that no passage has, and what was searched for instead."
    )
    unmatched: list[str] = Field(
        [],
        description="Where nothing was found: the tags and documents asked for that none matches.",
    )
    scored: int = Field(description="Passages scored in full.")
    seconds: float
