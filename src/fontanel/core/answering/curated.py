"""Curated answers: what people approved for a question is served before anything is looked for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from fontanel.core.answering.events import Citation


@dataclass(frozen=True, slots=True)
class CuratedAnswer:
    """An approved answer: its text, the citations bound to it, and the name under which it is kept."""

    name: str
    text: str
    citations: tuple[Citation, ...] = ()


class Curated(Protocol):
    """Where curated answers are looked up."""

    def find(self, question: str) -> CuratedAnswer | None:
        """The answer approved for a stand-alone question, or None."""
