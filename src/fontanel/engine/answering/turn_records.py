"""Stored parts of a turn: citations, evidence and checked statements as JSON."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.core.answering import Approval, CheckedStatement, Citation, EvidencePassage, Exchange
from fontanel.core.passages.splitting import Locator
from fontanel.core.validity import Outdated
from fontanel.records.tables import Turn, TurnState

#: Exchanges of a conversation that a follow-up question is understood from.
_REMEMBERED = 4
#: Decimal places of stored shares.
_PLACES = 4


@dataclass(frozen=True, slots=True, kw_only=True)
class StoredCitation:
    """A citation of a stored answer."""

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
    match: float
    support: float
    kb_id: str = ""
    also: tuple[str, ...] = ()
    outdated: Outdated | None = None

    @classmethod
    def of(cls, citation: Citation) -> StoredCitation:
        """Return the stored form of a citation."""
        return cls(
            number=citation.number,
            answer_start=citation.answer_start,
            answer_end=citation.answer_end,
            document_id=citation.document_id,
            revision_id=citation.revision_id,
            title=citation.title,
            locator=citation.locator,
            start=citation.start,
            end=citation.end,
            quote=citation.quote,
            match=round(citation.match, _PLACES),
            support=round(citation.support, _PLACES),
            kb_id=citation.kb_id,
            also=tuple(citation.also),
            outdated=citation.outdated,
        )

    @classmethod
    def load(cls, data: Mapping[str, Any]) -> StoredCitation:
        """Read a citation from its JSON."""
        outdated = data.get("outdated")
        return cls(
            **{
                **data,
                "locator": Locator.from_dict(data["locator"]),
                "outdated": Outdated.from_dict(outdated) if outdated else None,
            }
        )

    def dump(self) -> dict[str, Any]:
        """Return the citation as JSON values."""
        return {
            **asdict(self),
            "locator": self.locator.to_dict(),
            "also": list(self.also),
            "outdated": self.outdated.to_dict() if self.outdated else None,
        }


@dataclass(frozen=True, slots=True, kw_only=True)
class StoredEvidence:
    """A passage that an answer could rest on."""

    passage_id: int
    document_id: str
    revision_id: str
    title: str
    text: str
    start: int
    end: int
    locator: Locator
    match: float
    similarity: float | None
    kb_id: str = ""

    @classmethod
    def of(cls, passage: EvidencePassage) -> StoredEvidence:
        """Return the stored form of a passage."""
        similarity = passage.similarity
        return cls(
            passage_id=passage.passage_id,
            document_id=passage.document_id,
            revision_id=passage.revision_id,
            title=passage.title,
            text=passage.text,
            start=passage.start,
            end=passage.start + len(passage.text),
            locator=passage.locator,
            match=round(passage.match, _PLACES),
            similarity=None if similarity is None else round(similarity, _PLACES),
            kb_id=passage.kb_id,
        )

    @classmethod
    def load(cls, data: Mapping[str, Any]) -> StoredEvidence:
        """Read a passage from its JSON."""
        return cls(**{**data, "locator": Locator.from_dict(data["locator"])})

    def dump(self) -> dict[str, Any]:
        """Return the passage as JSON values."""
        return {**asdict(self), "locator": self.locator.to_dict()}


def dump_statement(statement: CheckedStatement) -> dict[str, Any]:
    """Return a checked statement as JSON values."""
    return {
        **asdict(statement),
        "verdict": statement.verdict.value,
        "citations": list(statement.citations),
    }


def dump_approval(approval: Approval) -> dict[str, Any]:
    """Return which approved answer was served as JSON values."""
    at = approval.approved_at
    return {**asdict(approval), "approved_at": at.isoformat() if at else None}


def history_of(session: Session, conversation_id: str | None) -> list[Exchange]:
    """Return the last exchanges of a conversation, oldest first."""
    if conversation_id is None:
        return []
    done = select(Turn).where(Turn.conversation_id == conversation_id, Turn.state == TurnState.DONE)
    turns = session.scalars(done.order_by(Turn.number.desc()).limit(_REMEMBERED)).all()
    return [
        Exchange(
            turn.question,
            turn.standalone,
            tuple(citation["title"] for citation in turn.citations),
        )
        for turn in reversed(turns)
    ]
