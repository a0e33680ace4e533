"""A question's way: from its words to a composed, cited and verified answer."""

from fontanel.core.answering.approved import ApprovedAnswer, ApprovedAnswers, ApprovedFound
from fontanel.core.answering.events import (
    APPROVED,
    BUILT_IN,
    Answer,
    AnswerEvent,
    Approval,
    CheckedStatement,
    Choice,
    Citation,
    CitationBound,
    EvidenceFound,
    Finished,
    Message,
    Outcome,
    Restarted,
    Started,
    StatementChecked,
    TextPiece,
    TokenUse,
    Verdict,
)
from fontanel.core.answering.evidence import EvidencePassage, Knowledge
from fontanel.core.answering.pipeline import answer
from fontanel.core.answering.question.followup import Exchange
from fontanel.core.answering.question.routing import Route, Routes
from fontanel.core.answering.settings import (
    AnswerSettings,
    FlaggedAnswers,
    Grounding,
    Layout,
    Length,
    UnsupportedStatements,
)
from fontanel.core.answering.trace import Step, Trace
from fontanel.core.answering.writing.writer import Writer, WriterFailed

__all__ = [
    "APPROVED",
    "BUILT_IN",
    "Answer",
    "AnswerEvent",
    "AnswerSettings",
    "Approval",
    "ApprovedAnswer",
    "ApprovedAnswers",
    "ApprovedFound",
    "CheckedStatement",
    "Choice",
    "Citation",
    "CitationBound",
    "EvidenceFound",
    "EvidencePassage",
    "Exchange",
    "Finished",
    "FlaggedAnswers",
    "Grounding",
    "Knowledge",
    "Layout",
    "Length",
    "Message",
    "Outcome",
    "Restarted",
    "Route",
    "Routes",
    "Started",
    "StatementChecked",
    "Step",
    "TextPiece",
    "TokenUse",
    "Trace",
    "UnsupportedStatements",
    "Verdict",
    "Writer",
    "WriterFailed",
    "answer",
]
