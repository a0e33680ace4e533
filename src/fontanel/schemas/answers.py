"""Asking: answers, citations, conversations, and the events of a streamed answer."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from fontanel.schemas.base import LocatorOut, Model, Problem, Tags
from fontanel.schemas.validity import OutdatedOut

OutcomeName = Literal["answered", "declined", "small_talk", "unfinished"]
TurnStateName = Literal["answering", "done", "stopped", "interrupted", "failed"]
VerdictName = Literal["supported", "weak", "uncited", "outdated", "none"]


class AskIn(Model):
    question: str = Field(
        min_length=1,
        max_length=2000,
        examples=["What is the wind limit for leaving the outer berth?"],
    )
    conversation_id: str | None = Field(
        None, description="Go on with this conversation; None begins a new one."
    )
    tags: Tags = Field(default_factory=dict)
    documents: list[str] | None = None


class CitationOut(Model):
    """Binds a range of characters of the answer to one of a revision."""

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
    support: float = Field(description="How well the quote supports the answer, 0-1.")
    kb_id: str = ""
    also: list[str] = Field(
        default_factory=list, description="Titles of other documents that say the same."
    )
    outdated: OutdatedOut | None = Field(
        None, description="Why the document was not in force when it was quoted; null if it was."
    )


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
    kb_id: str = ""


class StatementOut(Model):
    """A statement of the answer, characters [start, end), and its verdict.

    A removed statement has no extent; `removed` is its text. `citations` are the numbers of its
    citations.
    """

    start: int
    end: int
    verdict: VerdictName
    support: float
    citations: list[int]
    reason: str = ""
    removed: str = ""


class OfferedLink(Model):
    """A link that a cited document has as a tag, offered below the answer."""

    tag: str
    url: str
    title: str


class ApprovalOut(Model):
    """Which approved answer was served, and who approved it when."""

    id: str
    question: str
    approved_by: str
    approved_at: datetime | None
    kb_id: str
    version: int
    flag: Literal["", "reworded", "contradicted", "removed"] = Field(
        "", description="How its source text has changed since it was approved."
    )


class ChoiceOut(Model):
    """An approved question that may be the one that was meant; asked again, it is answered."""

    id: str
    question: str
    likelihood: float


class AnswerOut(Model):
    """An answer. When it was declined, `evidence` are the nearest passages."""

    conversation_id: str
    turn_id: str
    question: str
    standalone: str = Field(
        description="The question as it was understood, with what it leans on made explicit."
    )
    outcome: OutcomeName
    text: str
    citations: list[CitationOut]
    evidence: list[EvidenceOut]
    sufficiency: float = Field(
        description="The likelihood, 0-1, that the evidence answers the question."
    )
    composer: str = Field(description="What wrote it: approved, built-in, or the name of a model.")
    approval: ApprovalOut | None = Field(
        None, description="The approved answer that was served, null if none was."
    )
    choices: list[ChoiceOut] = Field(
        default_factory=list, description="Approved questions that may have been meant."
    )
    note: str = Field(
        "",
        description="A note for the reader, such as that a model failed.",
    )
    statements: list[StatementOut] = []
    links: list[OfferedLink] = []
    desk_id: str | None = None
    desk_version: int | None = Field(
        None, description="The published version that answered; None for a draft."
    )
    tokens_read: int = 0
    tokens_written: int = 0
    cost: float = 0.0
    seconds: dict[str, float]
    request_id: str


class FeedbackOut(Model):
    """`citation` 0 means the whole answer."""

    turn_id: str
    citation: int
    helpful: bool
    reason: str
    comment: str
    reply: str = Field("", description="What an editor answered.")
    replied_by: str = ""
    created_at: datetime


class TurnOut(Model):
    """A question with its answer; one that was stopped has the text up to then."""

    id: str
    number: int
    state: TurnStateName = "done"
    question: str
    standalone: str
    outcome: OutcomeName
    text: str
    citations: list[CitationOut]
    evidence: list[EvidenceOut]
    sufficiency: float
    composer: str
    approval: ApprovalOut | None = None
    choices: list[ChoiceOut] = []
    note: str = ""
    statements: list[StatementOut] | None = None
    links: list[OfferedLink] = []
    feedback: list[FeedbackOut] = []
    seconds: dict[str, float]
    request_id: str
    created_at: datetime


class ExportedAnswer(TurnOut):
    """A line of an export."""

    conversation_id: str
    desk_id: str | None
    desk_version: int | None
    asker: str = Field(description="The person, key or guest, by an id.")
    kbs: list[str] = Field(description="The ids of the knowledge bases that were searched.")


class ConversationOut(Model):
    id: str
    title: str
    desk_id: str | None = None
    kb_id: str | None = None
    created_at: datetime
    changed_at: datetime


class StartEvent(Model):
    event: Literal["start"] = "start"
    conversation_id: str
    turn_id: str
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


class CheckEvent(Model):
    """A statement was checked against what it cites."""

    event: Literal["check"] = "check"
    statement: StatementOut


class RestartEvent(Model):
    """The text so far is void.

    The model failed, and the answer starts over without it.
    """

    event: Literal["restart"] = "restart"
    reason: str


class FinishEvent(Model):
    """The whole answer, as in the JSON form."""

    event: Literal["finish"] = "finish"
    answer: AnswerOut


class ProblemEvent(Model):
    event: Literal["problem"] = "problem"
    problem: Problem


Event = Annotated[
    StartEvent
    | EvidenceEvent
    | PieceEvent
    | CitationEvent
    | CheckEvent
    | RestartEvent
    | FinishEvent
    | ProblemEvent,
    Field(discriminator="event"),
]
