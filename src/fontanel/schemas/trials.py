"""Question sets, trials, and comparisons of trials."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints, model_validator

from fontanel.schemas.base import Model, Name

ResultName = Literal[
    "right", "wrong", "declined", "declined_rightly", "not_declined", "unjudged", "failed"
]
TrialStateName = Literal["waiting", "running", "paused", "stopped", "done"]
ScheduleName = Literal["never", "nightly", "after_sync"]
ChangeOfAnswer = Literal["won", "lost", "changed", "same"]
AskedText = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=2000)]
_Short = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=300)]
_Quote = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=5000)]


class SetIn(Model):
    name: Name
    about: str = Field("", max_length=1000)


class SetChange(Model):
    """What changes; fields left out stay."""

    name: Name | None = None
    about: str | None = Field(None, max_length=1000)
    desk: str | None = Field(
        None, description="The desk whose published version is asked on a schedule."
    )
    schedule: ScheduleName | None = None


class SetOut(Model):
    id: str
    slug: str
    name: str
    about: str
    questions: int
    desk_id: str | None
    schedule: ScheduleName
    created_at: datetime
    changed_at: datetime
    version: int


class SetQuestionIn(Model):
    """A question, and what its answer should be. Without any expectation it is not judged."""

    question: AskedText
    history: list[AskedText] = Field(
        default_factory=list,
        max_length=10,
        description="Questions that are asked before it in the same conversation.",
    )
    documents: list[_Short] = Field(
        default_factory=list, max_length=20, description="Names; one of them must be cited."
    )
    quotes: list[_Quote] = Field(
        default_factory=list,
        max_length=20,
        description="Text of the documents; one must be cited, or stand in the answer.",
    )
    contains: list[_Short] = Field(
        default_factory=list,
        max_length=20,
        description="Words or values that must all be in the answer; `noon|12:00` allows either.",
    )
    must_decline: bool = Field(default=False, description="The documents do not answer it.")
    kind: Annotated[str, StringConstraints(strip_whitespace=True, max_length=80)] = ""
    note: str = Field("", max_length=1000)

    @model_validator(mode="after")
    def _one_or_the_other(self) -> SetQuestionIn:
        if self.must_decline and (self.documents or self.quotes or self.contains):
            raise ValueError("a question that must be declined has no expected answer")
        return self


class SetQuestionsIn(Model):
    questions: list[SetQuestionIn] = Field(min_length=1, max_length=1000)


class SetQuestionOut(SetQuestionIn):
    id: str
    number: int
    origin: str = Field(description="What it was made from: `answer ID` or `approved ID`.")
    changed_at: datetime

    @model_validator(mode="after")
    def _one_or_the_other(self) -> SetQuestionOut:
        return self


class SetImportIn(Model):
    form: Literal["jsonl", "csv"] = "jsonl"
    text: str = Field(max_length=5_000_000)


class SetImportProblem(Model):
    line: int
    problem: str


class SetImport(Model):
    """What an import did; with problems, nothing."""

    added: int
    problems: list[SetImportProblem]


class SetCollectIn(Model):
    """Questions to take over: of answers, gaps, approved answers, or proposed questions."""

    answers: list[str] = Field(default_factory=list, max_length=500)
    gaps: list[str] = Field(default_factory=list, max_length=500)
    proposed_of: str | None = Field(
        None, description="A knowledge base, whose open proposed questions are taken over."
    )
    approved_of: str | None = Field(
        None, description="A knowledge base, whose approved questions are taken over."
    )
    category: str | None = Field(None, description="Only approved answers of this category.")
    phrasings: bool = Field(
        default=True,
        description="Other wordings of approved and proposed questions are questions too.",
    )


class TrialIn(Model):
    """What to ask: a desk, or a knowledge base.

    `settings` replace some of the desk's (or the defaults), so that they can be tried without
    changing the draft.
    """

    question_set: str
    desk: str | None = None
    version: Annotated[int, Field(ge=1, le=1_000_000)] | Literal["draft"] | None = Field(
        None, description="The desk's version, or its draft; default: what is published."
    )
    kb: str | None = None
    edition: int | None = Field(
        None, ge=1, le=1_000_000, description="The number of an edition of that knowledge base."
    )
    settings: dict[str, Any] = Field(default_factory=dict)
    max_tokens: int | None = Field(
        None,
        ge=1,
        le=10**12,
        description="The trial is paused when it used as many tokens of a model.",
    )
    compare_with: str | None = Field(None, description="The trial to compare it with.")

    @model_validator(mode="after")
    def _one_target(self) -> TrialIn:
        if (self.desk is None) == (self.kb is None):
            raise ValueError("give a desk or a knowledge base")
        if self.edition is not None and self.kb is None:
            raise ValueError("an edition is one of a knowledge base")
        if self.version is not None and self.desk is None:
            raise ValueError("a version is one of a desk")
        return self


class TrialResume(Model):
    max_tokens: int | None = Field(None, ge=1, le=10**12)


class ShareOut(Model):
    """How many of a number, with the 95 % interval of the share."""

    count: int
    of: int
    low: float
    high: float


class TrialGroup(Model):
    """Figures of the questions of one kind, or of those expected from one document."""

    name: str
    right: ShareOut


class TrialFigures(Model):
    """Figures of the questions that were asked. Shares are of those that they apply to."""

    right: ShareOut = Field(description="Of the questions with an expectation.")
    cited: ShareOut = Field(description="Of the answers: those that cite what was expected.")
    declined_rightly: ShareOut = Field(description="Of those that must be declined.")
    declined_wrongly: ShareOut = Field(description="Of those that the documents answer.")
    doubtful: int = Field(description="Statements that their sources do not support.")
    failed: int
    tokens: int
    cost: float
    median_seconds: float | None
    p95_seconds: float | None
    kinds: list[TrialGroup]
    documents: list[TrialGroup]


class TrialOut(Model):
    id: str
    question_set: str
    set_name: str
    set_version: int
    label: str
    desk_id: str | None
    desk_version: int | None
    kb_id: str | None
    state: TrialStateName
    note: str
    total: int
    asked: int
    max_tokens: int | None
    compare_with: str | None
    scheduled: bool
    author: str
    created_at: datetime
    started_at: datetime | None
    finished_at: datetime | None
    figures: TrialFigures


class TrialCitation(Model):
    document: str
    title: str
    quote: str


class TrialResultOut(Model):
    """A question of a trial and its answer; without `result` it was not asked yet."""

    question_id: str
    number: int
    question: str
    kind: str
    must_decline: bool
    result: ResultName | None
    reason: str
    cited: bool | None
    outcome: str
    text: str
    citations: list[TrialCitation]
    sufficiency: float
    doubtful: int
    composer: str
    tokens: int
    cost: float
    seconds: float
    answer_id: str | None = Field(description="The record of the answer.")


class ComparedAnswer(Model):
    question_id: str
    question: str
    change: ChangeOfAnswer
    before: TrialResultOut
    after: TrialResultOut


class TrialComparison(Model):
    """Two trials of a set, question by question; those that only one asked are left out.

    `probability` is how likely a difference at least as large is by chance (sign test).
    """

    before: TrialOut
    after: TrialOut
    won: int
    lost: int
    changed: int
    same: int
    probability: float
    answers: list[ComparedAnswer]
