"""Records of answers, and what people say of them."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field

from fontanel.schemas.answers import AnswerOut, FeedbackOut, OutcomeName, TurnOut, TurnStateName
from fontanel.schemas.base import LocatorOut, Model, Name


class ConversationChange(Model):
    title: Name


class FeedbackIn(Model):
    """What an asker thinks of an answer, or with `citation` of one of its citations. Sent again, it replaces what was said before."""

    helpful: bool
    citation: int = Field(0, ge=0)
    reason: Literal[
        "",
        "wrong",
        "incomplete",
        "outdated",
        "unclear",
        "wrong_source",
        "should_have_answered",
        "other",
    ] = ""
    comment: str = Field("", max_length=2000)


class ContextOut(Model):
    """A quote in its place: characters [quote_start, quote_end) of `text`, which `begins` or `ends` with the document or is cut."""

    title: str
    locator: LocatorOut
    text: str
    quote_start: int
    quote_end: int
    begins: bool
    ends: bool


class StepOut(Model):
    """A step of an answer's way: seconds since the question until it began, how long it took, and what it found."""

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


class RecordOut(TurnOut):
    """Everything about how an answer came about."""

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


class AgainOut(Model):
    """A question asked again as of now, beside its first answer: lines that stay (" "), went ("-") and came ("+")."""

    before: TurnOut
    now: AnswerOut
    same_text: bool
    lines: list[tuple[str, str]]
    citations_gone: list[str]
    citations_new: list[str]
    evidence_gone: list[str]
    evidence_new: list[str]


class AnswerSummary(Model):
    """A turn in a list of what a desk was asked."""

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
