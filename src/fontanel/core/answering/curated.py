"""Curated answers, approved by people, which are served before any search."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from fontanel.core.answering.events import Citation


@dataclass(frozen=True, slots=True)
class CuratedAnswer:
    """An approved answer: its text, its citations, and its name."""

    name: str
    text: str
    citations: tuple[Citation, ...] = ()


class Curated(Protocol):
    """A store of curated answers."""

    def find(self, question: str) -> CuratedAnswer | None:
        """Return the answer approved for a stand-alone question, or None."""
