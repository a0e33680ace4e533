"""Approved answers: what people write, and what is served."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Literal

from pydantic import Field, StringConstraints, model_validator

from fontanel.schemas.base import LocatorOut, Model

ApprovedStateName = Literal["draft", "approved", "retired"]
ChangeName = Literal["reworded", "contradicted", "removed"]
FlagStateName = Literal["open", "confirmed", "settled"]
QuestionText = Annotated[
    str, StringConstraints(strip_whitespace=True, min_length=3, max_length=500)
]
AnswerText = Annotated[
    str, StringConstraints(strip_whitespace=True, min_length=1, max_length=20_000)
]
Category = Annotated[str, StringConstraints(strip_whitespace=True, max_length=80)]


class ApprovedPlaceIn(Model):
    """A source of an answer: a range of characters of a document, or all of it as an attachment."""

    document: str = Field(description="A document's id or name.")
    revision: str | None = Field(None, description="Default: the one that is indexed.")
    start: int | None = Field(None, ge=0)
    end: int | None = Field(None, ge=1)

    @model_validator(mode="after")
    def _both_or_none(self) -> ApprovedPlaceIn:
        if (self.start is None) != (self.end is None):
            raise ValueError("give both start and end, or none for the whole document")
        return self


class ApprovedPlaceOut(Model):
    """A source with its text. Without `quote` it is the whole document."""

    document_id: str
    revision_id: str
    title: str
    start: int
    end: int
    quote: str
    locator: LocatorOut


class ApprovedFields(Model):
    """What every approved answer can have."""

    phrasings: list[QuestionText] = Field(
        default_factory=list, max_length=50, description="Other wordings of the question."
    )
    category: Category = ""
    valid_from: date | None = None
    valid_until: date | None = None
    owner: str = Field(
        "", max_length=120, description="Who is responsible for it; default: its author."
    )
    state: ApprovedStateName = "draft"

    @model_validator(mode="after")
    def _in_order(self) -> ApprovedFields:
        if self.valid_from and self.valid_until and self.valid_until < self.valid_from:
            raise ValueError("it would end before it begins to be valid")
        return self


class ApprovedIn(ApprovedFields):
    """An approved answer to make."""

    question: QuestionText
    text: AnswerText = Field(description="The answer, as Markdown.")
    places: list[ApprovedPlaceIn] = Field(default_factory=list, max_length=20)


class ApprovedChange(Model):
    """What changes; fields left out stay."""

    question: QuestionText | None = None
    phrasings: list[QuestionText] | None = Field(None, max_length=50)
    text: AnswerText | None = None
    places: list[ApprovedPlaceIn] | None = Field(None, max_length=20)
    category: Category | None = None
    valid_from: date | None = None
    valid_until: date | None = None
    owner: str | None = Field(None, max_length=120)
    state: ApprovedStateName | None = None


class ApprovedOut(Model):
    id: str
    question: str
    phrasings: list[str]
    text: str
    places: list[ApprovedPlaceOut]
    category: str
    valid_from: date | None
    valid_until: date | None
    owner: str
    state: ApprovedStateName
    served: bool = Field(description="Whether it is approved and valid today.")
    approved_by: str
    approved_at: datetime | None
    turn_id: str | None = Field(description="The answer that it was made from.")
    version: int
    created_at: datetime
    changed_at: datetime


class FlagOut(Model):
    """A source of an approved answer whose text has changed.

    `new_text` is characters [start, end) of the document's revision; empty when the text, or the
    document (`revision_id` null), is gone.
    """

    id: str
    approved_id: str
    question: str
    text: str = Field(description="The approved answer.")
    approved_state: ApprovedStateName
    document_id: str
    title: str
    change: ChangeName = Field(
        description="`contradicted`: it states another number, name or day, or the opposite."
    )
    old_text: str
    new_text: str
    revision_id: str | None
    start: int
    end: int
    state: FlagStateName
    settled_by: str
    created_at: datetime
    changed_at: datetime


class ApprovedVersionOut(Model):
    """An approved answer as it was after one change."""

    number: int
    author: str
    created_at: datetime
    question: str
    phrasings: list[str]
    text: str
    category: str
    valid_from: date | None
    valid_until: date | None
    owner: str
    state: ApprovedStateName
    places: list[ApprovedPlaceOut]


class ApprovedFromTurn(ApprovedFields):
    """Make an approved answer of an answer that was given; its citations become the places.

    A question or text that is left out is taken from it.
    """

    turn: str = Field(description="The id of an answer of this knowledge base.")
    question: QuestionText | None = None
    text: AnswerText | None = None


class ApprovedCount(Model):
    """A category and how many approved answers it has, by state."""

    category: str
    draft: int
    approved: int
    retired: int


class ApprovedMatch(Model):
    """An approved answer and how likely it answers a question, 0-1."""

    id: str
    question: str
    wording: str = Field(description="The question or phrasing that is most like the one asked.")
    likelihood: float
    served: bool = Field(description="Whether it is served at the default threshold.")


class ApprovedLine(ApprovedFields):
    """A line of an import or export, in JSON Lines; CSV has the same fields as columns.

    In CSV, phrasings are one to a line of their cell. `documents` are names of whole documents.
    """

    question: QuestionText
    text: AnswerText
    documents: list[str] = Field(default_factory=list, max_length=20)


class ApprovedImportIn(Model):
    """A file of approved answers."""

    form: Literal["jsonl", "csv"]
    text: str = Field(min_length=1, max_length=5_000_000)


class ImportProblem(Model):
    line: int = Field(description="The line of the file, from 1.")
    problem: str


class ApprovedImport(Model):
    """What an import did; nothing is imported if a line is not valid."""

    created: int
    changed: int = Field(description="Those whose question existed already.")
    unchanged: int
    problems: list[ImportProblem]
