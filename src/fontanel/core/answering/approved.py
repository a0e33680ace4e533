"""Approved answers, which are served before any search."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from fontanel.core.answering.events import Approval, Choice, Citation
from fontanel.core.answering.evidence import Knowledge
from fontanel.core.answering.settings import AnswerSettings


@dataclass(frozen=True, slots=True)
class ApprovedAnswer:
    """An approved answer as it is served."""

    approval: Approval
    text: str
    citations: tuple[Citation, ...] = ()
    likelihood: float = 1.0


@dataclass(frozen=True, slots=True)
class ApprovedFound:
    """The approved answer of a question, or the nearest ones as choices, likeliest first."""

    answer: ApprovedAnswer | None = None
    choices: tuple[Choice, ...] = ()


class ApprovedAnswers(Protocol):
    """A store of approved answers."""

    def find(self, question: str, knowledge: Knowledge, settings: AnswerSettings) -> ApprovedFound:
        """Return what is approved for a stand-alone question."""
        ...
