"""The result of answering.

The answer, its citations, and the events along the way.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from fontanel.core.answering.evidence import EvidencePassage
from fontanel.core.passages.splitting import Locator
from fontanel.core.validity import Outdated


class Outcome(StrEnum):
    """How a question ended.

    Answered, declined for lack of evidence, or no search needed.
    """

    ANSWERED = "answered"
    DECLINED = "declined"
    SMALL_TALK = "small_talk"


#: The composer that needs no model.
BUILT_IN = "built-in"
#: People, who approved the answer beforehand.
APPROVED = "approved"


class Verdict(StrEnum):
    """The result of verifying a statement of an answer."""

    SUPPORTED = "supported"
    #: It cites a passage that does not support it.
    WEAK = "weak"
    #: It cites nothing, and no source supports it.
    UNCITED = "uncited"
    #: Only documents that are not in force support it.
    OUTDATED = "outdated"
    #: It states nothing: a lead-in, a heading.
    NONE = "none"


@dataclass(frozen=True, slots=True)
class Message:
    """One message to a model: `role` is system, user or assistant; pictures are JPEG files."""

    role: str
    content: str
    pictures: tuple[bytes, ...] = ()


@dataclass(frozen=True, slots=True)
class TokenUse:
    """Tokens that a model read and wrote, counted by the server or else estimated."""

    read: int
    written: int
    counted: bool


@dataclass(frozen=True, slots=True)
class Citation:
    """Binds a range of characters of an answer to one of a revision.

    `quote` is the revision's text there, `match` the passage's relevance, and `support` (0-1) how
    well the quote supports the answer.
    """

    number: int
    answer_start: int
    answer_end: int
    document_id: str
    revision_id: str
    title: str
    locator: Locator
    start: int
    end: int
    quote: str
    passage_id: int
    match: float
    support: float
    kb_id: str = ""
    #: The titles of other documents that say the same.
    also: tuple[str, ...] = ()
    #: Why the document was not in force, None if it was.
    outdated: Outdated | None = None


@dataclass(frozen=True, slots=True)
class CheckedStatement:
    """A statement of an answer, characters [start, end), and its verdict.

    `reason` explains the verdict, and `citations` are their numbers. A removed statement has no
    extent; `removed` is its text.
    """

    start: int
    end: int
    verdict: Verdict
    support: float
    citations: tuple[int, ...] = ()
    reason: str = ""
    removed: str = ""


@dataclass(frozen=True, slots=True)
class Approval:
    """Which approved answer was served, and who approved it when."""

    id: str
    question: str
    approved_by: str = ""
    approved_at: datetime | None = None
    kb_id: str = ""
    version: int = 1
    #: How its source text has changed since: reworded, contradicted or removed; empty: it has not.
    flag: str = ""


@dataclass(frozen=True, slots=True)
class Choice:
    """An approved question that may be the one that was meant, and how likely, 0-1."""

    id: str
    question: str
    likelihood: float


@dataclass(frozen=True, slots=True)
class Answer:
    """An answer with all that explains it.

    `approval` is that of an approved answer, `choices` are approved questions that may have been
    meant. `sufficiency` is the likelihood that the evidence answers the question.
    """

    question: str
    standalone: str
    outcome: Outcome
    text: str
    citations: tuple[Citation, ...]
    evidence: tuple[EvidencePassage, ...]
    sufficiency: float
    statements: tuple[CheckedStatement, ...] = ()
    composer: str = BUILT_IN
    #: A note for the reader, such as that a model failed, or that it uses its own knowledge.
    note: str = ""
    prompt: tuple[Message, ...] = ()
    raw: str = ""
    use: TokenUse | None = None
    approval: Approval | None = None
    choices: tuple[Choice, ...] = ()


@dataclass(frozen=True, slots=True)
class Started:
    question: str
    standalone: str


@dataclass(frozen=True, slots=True)
class EvidenceFound:
    passages: tuple[EvidencePassage, ...]
    sufficiency: float


@dataclass(frozen=True, slots=True)
class TextPiece:
    text: str


@dataclass(frozen=True, slots=True)
class CitationBound:
    citation: Citation


@dataclass(frozen=True, slots=True)
class StatementChecked:
    statement: CheckedStatement


@dataclass(frozen=True, slots=True)
class Restarted:
    """The text so far is void.

    The model failed, and the answer starts over without it.
    """

    reason: str


@dataclass(frozen=True, slots=True)
class Finished:
    answer: Answer


AnswerEvent = (
    Started | EvidenceFound | TextPiece | CitationBound | StatementChecked | Restarted | Finished
)
