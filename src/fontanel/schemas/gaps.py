"""Gaps, feedback and coverage: what was asked and not answered well, and what documents are for."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from fontanel.schemas.approved import ChangeName
from fontanel.schemas.base import LocatorOut, Model
from fontanel.schemas.turns import FeedbackReason

GapStateName = Literal["open", "resolved"]
GapKindName = Literal["declined", "weak", "unhelpful"]
ResolutionName = Literal["", "answered", "document", "source", "approved", "not_needed", "other"]
SuggestionName = Literal["correct", "approve", "write"]
_Who = Annotated[str, StringConstraints(strip_whitespace=True, max_length=120)]
_Remark = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=4000)]


class GapDesk(Model):
    """A desk at which a gap was asked; without an id, a knowledge base directly."""

    desk_id: str | None
    name: str
    count: int


class GapOut(Model):
    """Questions that ask for the same and were not answered well."""

    id: str
    question: str = Field(description="The most central of its questions.")
    state: GapStateName
    resolution: ResolutionName
    resolved_by: str
    assignee: str
    count: int
    declined: int
    weak: int = Field(description="Answered, but more likely wrongly than rightly.")
    unhelpful: int
    desks: list[GapDesk]
    weeks: list[int] = Field(description="Questions in each of the last eight weeks, oldest first.")
    suggestion: SuggestionName = Field(
        description=(
            "`write`: nothing near is in the documents; `approve`: something near is, approve an"
            " answer or make the document clearer; `correct`: the answer was not helpful."
        )
    )
    comments: int
    first_at: datetime
    last_at: datetime
    checked_at: datetime = Field(description="When it was last asked again.")


class GapQuestionOut(Model):
    answer_id: str
    question: str
    kind: GapKindName
    desk_id: str | None
    sufficiency: float
    asked_at: datetime
    asker: str | None = Field(description="Only where the team shows who asked.")


class GapPassage(Model):
    """A passage that the last of its searches found."""

    kb_id: str
    document_id: str
    title: str
    locator: LocatorOut
    text: str
    match: float


class GapCitation(Model):
    kb_id: str
    document_id: str
    revision_id: str
    title: str
    start: int
    end: int
    quote: str


class GapAnswer(Model):
    """The answer that closed a gap automatically."""

    text: str
    sufficiency: float
    citations: list[GapCitation]


class GapComment(Model):
    author: str
    text: str
    at: datetime


class GapDetail(GapOut):
    questions: list[GapQuestionOut] = Field(description="Newest first, at most 200.")
    passages: list[GapPassage]
    remarks: list[GapComment]
    answer: GapAnswer | None


class GapChange(Model):
    """What changes; fields left out stay."""

    assignee: _Who | None = None
    state: GapStateName | None = None
    resolution: ResolutionName | None = None


class GapCommentIn(Model):
    text: _Remark


class FeedbackItem(Model):
    """An opinion of an answer, with what was done about it."""

    id: str
    answer_id: str
    question: str
    text: str
    outcome: str
    citation: int
    helpful: bool
    reason: FeedbackReason
    comment: str
    desk_id: str | None
    desk: str
    kb_id: str | None = Field(description="The knowledge base that is cited first.")
    gap_id: str | None
    handled: bool
    assignee: str
    reply: str
    replied_by: str
    asker: str | None = Field(description="Only where the team shows who asked.")
    created_at: datetime


class FeedbackChange(Model):
    """What is done about feedback; fields left out stay. The asker sees the reply."""

    handled: bool | None = None
    assignee: _Who | None = None
    reply: Annotated[str, StringConstraints(strip_whitespace=True, max_length=4000)] | None = None


class DocumentCoverage(Model):
    """How much of a document answers needed, over all its revisions."""

    document_id: str
    name: str
    title: str
    passages: int
    found: int = Field(description="How often searches of answers found one of its passages.")
    cited: int
    unfound: int = Field(description="Passages as they are now that were never found.")
    last_cited_at: datetime | None
    created_at: datetime


class PassageCoverage(Model):
    """A passage of a document as it is now, and how often answers found and cited it."""

    start: int
    end: int
    locator: LocatorOut
    text: str
    found: int
    cited: int


class ChangedSource(Model):
    """Text that an answer cites, and what became of it."""

    document_id: str
    title: str
    change: ChangeName
    old_text: str
    new_text: str = Field(description="Empty if the text, or the document, is gone.")
    revision_id: str | None


class ChangedAnswer(Model):
    """A past answer that cites text that has changed since."""

    answer_id: str
    question: str
    text: str
    desk_id: str | None
    asked_at: datetime
    changed_at: datetime
    sources: list[ChangedSource]
