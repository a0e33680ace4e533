"""Search."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from fontanel.schemas.base import LocatorOut, Model


class SearchIn(Model):
    question: str = Field(min_length=1, max_length=2000, examples=["wind limit at the outer berth"])
    mode: Literal["hybrid", "lexical", "vector"] = "hybrid"
    limit: int = Field(10, ge=1, le=100)
    per_document: int = Field(3, ge=1, le=100, description="Passages of one document at most.")
    tags: dict[str, str] = Field(default_factory=dict)
    documents: list[str] | None = Field(None, description="Ids or names of the only documents to search.")


class SpanOut(Model):
    """Characters [start, end) of the hit's own text."""

    start: int
    end: int


class HitOut(Model):
    """A passage found. `match` (0-1) compares across questions; `lexical` is BM25, `similarity` the cosine."""

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
    score: float
    lexical: float
    similarity: float | None
    terms: dict[str, float] = Field(description="What each matching term gave to the lexical score.")
    highlights: list[SpanOut]


class SearchOut(Model):
    question: str
    mode: Literal["hybrid", "lexical", "vector"]
    by_words: bool = Field(description="No embedder took part.")
    hits: list[HitOut]
    seconds: float
