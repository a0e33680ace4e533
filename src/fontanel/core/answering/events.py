"""What answering gives: the answer, its citations, and the events by which it comes about."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from fontanel.core.answering.evidence import EvidencePassage
from fontanel.core.passages.splitting import Locator


class Outcome(StrEnum):
    """How a question ended: answered from documents, declined for want of evidence, or no documents were needed."""

    ANSWERED = "answered"
    DECLINED = "declined"
    SMALL_TALK = "small_talk"


#: The composer that needs no model.
BUILT_IN = "built-in"
#: People, who approved the answer beforehand.
CURATED = "curated"


class Verdict(StrEnum):
    """How a statement of an answer stands."""

    SUPPORTED = "supported"
    #: It cites a place that does not carry it.
    WEAK = "weak"
    #: It cites nothing, and no source was found that carries it.
    UNCITED = "uncited"
    #: It states nothing: a lead-in, a heading.
    NONE = "none"


@dataclass(frozen=True, slots=True)
class Message:
    """One message to a model: `role` is system, user or assistant."""

    role: str
    content: str


@dataclass(frozen=True, slots=True)
class TokenUse:
    """Tokens that a model read and wrote. `counted` by the server; else estimated from the texts."""

    read: int
    written: int
    counted: bool


@dataclass(frozen=True, slots=True)
class Citation:
    """Binds the characters [answer_start, answer_end) of an answer to [start, end) of a revision.

    `quote` is the revision's text there, `match` the passage's match, `support` (0-1) how well the quote carries what the
    answer says.
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


@dataclass(frozen=True, slots=True)
class CheckedStatement:
    """A statement of an answer, characters [start, end), and how it stands: `verdict` with its reason, and the numbers of its
    citations. One that was removed has no extent; `removed` is what it said."""

    start: int
    end: int
    verdict: Verdict
    support: float
    citations: tuple[int, ...] = ()
    reason: str = ""
    removed: str = ""


@dataclass(frozen=True, slots=True)
class Answer:
    """An answer with everything needed to explain it. `sufficiency` is the likelihood that the evidence answers."""

    question: str
    standalone: str
    outcome: Outcome
    text: str
    citations: tuple[Citation, ...]
    evidence: tuple[EvidencePassage, ...]
    sufficiency: float
    statements: tuple[CheckedStatement, ...] = ()
    composer: str = BUILT_IN
    #: What is to be said besides: that a model failed, that it answers from what it knows.
    note: str = ""
    prompt: tuple[Message, ...] = ()
    raw: str = ""
    use: TokenUse | None = None


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
    """What was written so far does not count: the model broke off, and the answer begins anew without it."""

    reason: str


@dataclass(frozen=True, slots=True)
class Finished:
    answer: Answer


AnswerEvent = (
    Started | EvidenceFound | TextPiece | CitationBound | StatementChecked | Restarted | Finished
)
