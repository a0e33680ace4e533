"""What an answer may use and how it is to look."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Grounding(StrEnum):
    """What an answer may rest on."""

    ONLY_SOURCES = "only_sources"
    #: A model may answer from what it knows when the sources do not, and the answer says so.
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
    """What becomes of a statement that its cited passages do not carry."""

    MARK = "mark"
    REMOVE = "remove"


#: Statements that an answer of each length is made of, and sentences that a model is asked for.
STATEMENTS = {Length.SHORT: 1, Length.MEDIUM: 4, Length.LONG: 8}


@dataclass(frozen=True, slots=True, kw_only=True)
class AnswerSettings:
    """What an answer may use. The floor is where about one answerable question in eight about the manuals of
    `bench/calibrate.py` is declined.

    `passages` are looked through, of `documents` at most (None: of any number), `shown` of them given as evidence; below a
    sufficiency of `evidence_needed` (0-1) a question is declined. `language` is an ISO 639-1 code, None for the asker's.
    `context_tokens` bound what a model is sent of the passages, `answer_tokens` what it may write. `instructions` are the
    editors' own words to a model.
    """

    passages: int = 16
    documents: int | None = None
    shown: int = 8
    evidence_needed: float = 0.4
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
