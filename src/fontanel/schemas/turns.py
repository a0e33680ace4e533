"""Records of answers, and feedback."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field

from fontanel.schemas.answers import AnswerOut, FeedbackOut, OutcomeName, TurnOut, TurnStateName
from fontanel.schemas.base import LocatorOut, Model, Name


class ConversationChange(Model):
    title: Name


FeedbackReason = Literal[
    "",
    "wrong",
    "incomplete",
    "outdated",
    "unclear",
    "wrong_source",
    "should_have_answered",
    "other",
]


class FeedbackIn(Model):
    """Feedback on an answer, or on one `citation`; sending it again replaces it."""

    helpful: bool
    citation: int = Field(0, ge=0)
    reason: FeedbackReason = ""
    comment: str = Field("", max_length=2000)


class ContextOut(Model):
    """A quote with its context: characters [quote_start, quote_end) of `text`.

    `begins` and `ends` say whether the text starts or ends with the document.
    """

    title: str
    locator: LocatorOut
    text: str
    quote_start: int
    quote_end: int
    begins: bool
    ends: bool


class StepOut(Model):
    """A step of an answer.

    Seconds from the question to its start, duration, and details.
    """

    name: str
    began: float
    seconds: float
    details: dict[str, Any]


class PromptMessage(Model):
    role: str
    content: str


class ChangedCitation(Model):
    """A citation whose document has changed since: `state` is `changed` or `gone`."""

    citation: int
    document_id: str
    title: str
    state: Literal["changed", "gone"]


class ReceiptOut(Model):
    """A receipt of an answer: a flattened JSON Web Signature (RFC 7515), with Ed25519."""

    payload: str
    protected: str
    signature: str


class RecordOut(TurnOut):
    """Everything about how an answer was made."""

    conversation_id: str
    asker: str
    desk_id: str | None
    desk_version: int | None
    settings: dict[str, Any] | None
    editions: dict[str, str] | None
    steps: list[StepOut]
    prompt: list[PromptMessage]
    raw: str
    tokens_read: int
    tokens_written: int
    cost: float
    changed_since: list[ChangedCitation]
    record_deleted_at: datetime | None = Field(
        None, description="When steps, passages and messages were deleted after retention."
    )


class AgainOut(Model):
    """A question asked again: lines that stayed (" "), went ("-") and came ("+")."""

    before: TurnOut
    now: AnswerOut
    same_text: bool
    lines: list[tuple[str, str]]
    citations_gone: list[str]
    citations_new: list[str]
    evidence_gone: list[str]
    evidence_new: list[str]


class AnswerSummary(Model):
    """A turn in the list of a desk's questions."""

    id: str
    question: str
    asker: str
    state: TurnStateName
    outcome: OutcomeName
    sufficiency: float
    composer: str
    desk_version: int | None
    weak: int
    feedback: list[FeedbackOut]
    seconds: dict[str, float]
    created_at: datetime
