"""What answering gives: the answer, its citations, and the events by which it comes about."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from fontanel.core.answering.evidence import EvidencePassage
from fontanel.core.splitting import Locator


class Outcome(StrEnum):
    """How a question ended: answered from documents, declined for want of evidence, or no documents were needed."""

    ANSWERED = "answered"
    DECLINED = "declined"
    SMALL_TALK = "small_talk"


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
class Finished:
    answer: Answer


AnswerEvent = Started | EvidenceFound | TextPiece | CitationBound | Finished
