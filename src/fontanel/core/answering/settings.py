"""Settings of answers: their sources, length, language and composer."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from fontanel.facts import APPROVED_NEEDED


class Grounding(StrEnum):
    """What an answer may rest on."""

    ONLY_SOURCES = "only_sources"
    #: A model may answer from its own knowledge when the sources do not, and the answer says so.
    SOURCES_FIRST = "sources_first"


class Length(StrEnum):
    SHORT = "short"
    MEDIUM = "medium"
    LONG = "long"


class Layout(StrEnum):
    """How an answer is laid out; `AUTO` lets the question decide."""

    AUTO = "auto"
    PROSE = "prose"
    STEPS = "steps"
    LIST = "list"
    TABLE = "table"


class UnsupportedStatements(StrEnum):
    """What happens to a statement that its cited passages do not support."""

    MARK = "mark"
    REMOVE = "remove"


class FlaggedAnswers(StrEnum):
    """What happens to an approved answer whose text changed since."""

    SERVE = "serve"
    #: Those whose new text states another value are not served.
    WITHHOLD_CONTRADICTED = "withhold_contradicted"
    WITHHOLD = "withhold"


#: The number of statements in an answer of each length, and of sentences asked of a model.
STATEMENTS = {Length.SHORT: 1, Length.MEDIUM: 4, Length.LONG: 8}


#: The sufficiency below which an answer by the composer has a note that it may not be right.
UNSURE = 0.5


@dataclass(frozen=True, slots=True, kw_only=True)
class AnswerSettings:
    """The settings of an answer.

    The default threshold declines 7 per cent of the answerable questions of the tuning collections
    of `bench/tuning/calibrate.py`, and 70 per cent of the unanswerable ones.

    `passages` are searched, from a maximum of `documents` (None: no limit), and `shown` of them are
    evidence. With `deep` the evidence model ranks passages and statements. Below a sufficiency of
    `evidence_needed` (0-1) a question is declined; from a likelihood of `approved_needed` (0-1) an
    approved answer is served, or withheld as `flagged` says. `language` is an ISO 639-1 code, None
    for the asker's. `context_tokens` limits the passages sent to a model, `answer_tokens` what it
    writes. `instructions` are the editors' own words to a model.
    """

    passages: int = 16
    deep: bool = True
    documents: int | None = None
    shown: int = 8
    evidence_needed: float = 0.3
    approved_needed: float = APPROVED_NEEDED
    flagged: FlaggedAnswers = FlaggedAnswers.WITHHOLD_CONTRADICTED
    grounding: Grounding = Grounding.ONLY_SOURCES
    length: Length = Length.MEDIUM
    layout: Layout = Layout.AUTO
    language: str | None = None
    unsupported: UnsupportedStatements = UnsupportedStatements.MARK
    context_tokens: int = 1200
    answer_tokens: int = 500
    temperature: float = 0.0
    instructions: str = ""
    name: str = ""
    purpose: str = ""
    greeting: str = ""
