"""Questions that documents answer, proposed for approval."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from fontanel.schemas.approved import AnswerText, Category, QuestionText
from fontanel.schemas.base import Model

ProposalStateName = Literal["open", "approved", "dismissed"]


class ProposalOut(Model):
    """A question that characters [start, end) of a document answer."""

    id: str
    document_id: str
    title: str
    revision_id: str
    start: int
    end: int
    quote: str
    question: str
    phrasings: list[str]
    answer: str
    relevance: float = Field(description="How likely its own passage answers it, 0-1.")
    state: ProposalStateName
    approved_id: str | None
    decided_by: str
    changed_at: datetime


class DocumentProposals(Model):
    """What is proposed of a document; `waiting` while its questions are being looked for."""

    waiting: bool
    revision_id: str | None = Field(description="The revision that was looked at last.")
    tried: int = Field(description="Questions that were made; those that fail are not proposed.")
    passages: int = Field(description="Passages that a model reads; 0 without a model.")
    passages_read: int
    error: str
    items: list[ProposalOut]


class ProposalChange(Model):
    """What changes; fields left out stay."""

    question: QuestionText | None = None
    answer: AnswerText | None = None
    phrasings: list[QuestionText] | None = Field(None, max_length=50)


class ProposalsDecision(Model):
    proposals: list[str] = Field(min_length=1, max_length=500)
    decision: Literal["approve", "dismiss", "open"]
    category: Category = ""
