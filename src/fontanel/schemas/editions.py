"""Editions of a knowledge base: built, compared, activated."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from fontanel.schemas.base import Model
from fontanel.schemas.kbs import Splitting


class EditionIn(Model):
    splitting: Splitting
    embedder: str | None = Field(
        None,
        max_length=60,
        description="The embedder; default: that of the active edition. `built-in`: the service's.",
    )

    budget: float | None = Field(
        None,
        gt=0,
        le=1_000_000_000,
        description=(
            "The maximum cost of embedding, in the embedder's currency. The build pauses when the"
            " next text would cost more, as far as its tokens can be estimated."
        ),
    )


class ResumeIn(Model):
    budget: float | None = Field(
        None, gt=0, le=1_000_000_000, description="A new maximum cost. Default: as before."
    )


class EditionOut(Model):
    """An index of the knowledge base with fixed settings; one of them is active."""

    id: str
    number: int
    active: bool
    state: Literal["building", "paused", "ready"]
    paused_by: Literal["person", "budget"] | None
    splitting: Splitting
    embedder: str | None
    outdated: bool = Field(
        default=False,
        description=(
            "Built with another embedder or analyser than the service's. Without its embedder, only"
            " keyword search works."
        ),
    )
    replaces_active: bool = Field(
        default=False,
        description="Serves as soon as it is built, in the place of one that is outdated.",
    )
    passages: int
    recall: float | None = Field(
        None,
        description=(
            "Share of the ten nearest vectors that a search finds, as measured; None where all are"
            " compared."
        ),
    )
    done: int = Field(
        description="Documents in it, of those queued when it was built or changed since."
    )
    failed: int
    total: int
    seconds_left: float | None = Field(
        description="At the pace so far; None when it is ready or nothing is done yet."
    )
    tokens: int = Field(description="Tokens that registered embedders read for it so far.")
    cost: float
    currency: str
    budget: float | None
    created_at: datetime


class CompareQuestion(Model):
    question: str = Field(min_length=1, max_length=2000)
    document: str | None = Field(
        None, description="The name or id of the document that should be found."
    )


class CompareIn(Model):
    first: int = Field(ge=1, le=1_000_000, description="An edition's number.")
    second: int = Field(ge=1, le=1_000_000, description="Another edition's number.")
    questions: list[CompareQuestion] = Field(min_length=1, max_length=500)


class ComparedOut(Model):
    """The results of two editions for a question.

    Document names, and the expected rank.
    """

    question: str
    document: str | None
    first: list[str]
    second: list[str]
    first_rank: int | None
    second_rank: int | None


class ComparisonOut(Model):
    """Two editions on the same questions.

    `mrr` is the mean of 1 / rank over the questions with an expected document; `same_best` the
    share of questions with the same best document.
    """

    first: int
    second: int
    first_mrr: float | None
    second_mrr: float | None
    same_best: float
    questions: list[ComparedOut]
