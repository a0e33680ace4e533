"""Asking: answers, citations, conversations, and the events of a streamed answer."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from fontanel.schemas.base import LocatorOut, Model, Problem

OutcomeName = Literal["answered", "declined", "small_talk"]


class AskIn(Model):
    question: str = Field(min_length=1, max_length=2000, examples=["When may a vessel leave the outer berth?"])
    conversation_id: str | None = Field(None, description="Go on with this conversation; None begins a new one.")
    tags: dict[str, str] = Field(default_factory=dict)
    documents: list[str] | None = None


class CitationOut(Model):
    """Binds characters [answer_start, answer_end) of the answer to characters [start, end) of a revision's text."""

    number: int
    answer_start: int
    answer_end: int
    document_id: str
    revision_id: str
    title: str
    locator: LocatorOut
    start: int
    end: int
    quote: str
    match: float
    support: float = Field(description="How well the quote carries what the answer says, 0-1.")


class EvidenceOut(Model):
    passage_id: int
    document_id: str
    revision_id: str
    title: str
    text: str
    start: int
    end: int
    locator: LocatorOut
    match: float
    similarity: float | None


class AnswerOut(Model):
    """An answer. When it was declined, `evidence` are the nearest passages."""

    conversation_id: str
    turn_id: str
    question: str
    standalone: str = Field(description="The question as it was understood, with what it leans on made explicit.")
    outcome: OutcomeName
    text: str
    citations: list[CitationOut]
    evidence: list[EvidenceOut]
    sufficiency: float = Field(description="The likelihood, 0-1, that the evidence answers the question.")
    composer: str
    seconds: dict[str, float]
    request_id: str


class TurnOut(Model):
    id: str
    number: int
    question: str
    standalone: str
    outcome: OutcomeName
    text: str
    citations: list[CitationOut]
    evidence: list[EvidenceOut]
    sufficiency: float
    composer: str
    seconds: dict[str, float]
    request_id: str
    created_at: datetime


class ConversationOut(Model):
    id: str
    title: str
    created_at: datetime
    changed_at: datetime


class StartEvent(Model):
    event: Literal["start"] = "start"
    conversation_id: str
    question: str
    standalone: str


class EvidenceEvent(Model):
    """Comes before the first words of an answer."""

    event: Literal["evidence"] = "evidence"
    passages: list[EvidenceOut]
    sufficiency: float


class PieceEvent(Model):
    event: Literal["piece"] = "piece"
    text: str


class CitationEvent(Model):
    event: Literal["citation"] = "citation"
    citation: CitationOut


class FinishEvent(Model):
    """The whole answer, as the JSON form gives it."""

    event: Literal["finish"] = "finish"
    answer: AnswerOut


class ProblemEvent(Model):
    event: Literal["problem"] = "problem"
    problem: Problem


Event = Annotated[
    StartEvent | EvidenceEvent | PieceEvent | CitationEvent | FinishEvent | ProblemEvent, Field(discriminator="event")
]
