"""A question's way: from its words to a composed, cited and verified answer."""

from fontanel.core.answering.answer import AnswerSettings, answer
from fontanel.core.answering.events import (
    Answer,
    AnswerEvent,
    Citation,
    CitationBound,
    EvidenceFound,
    Finished,
    Outcome,
    Started,
    TextPiece,
)
from fontanel.core.answering.evidence import EvidencePassage, Knowledge
from fontanel.core.answering.followup import Exchange

__all__ = [
    "Answer",
    "AnswerEvent",
    "AnswerSettings",
    "Citation",
    "CitationBound",
    "EvidenceFound",
    "EvidencePassage",
    "Exchange",
    "Finished",
    "Knowledge",
    "Outcome",
    "Started",
    "TextPiece",
    "answer",
]
