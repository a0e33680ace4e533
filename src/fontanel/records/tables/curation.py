"""Approved answers and their earlier versions."""

from __future__ import annotations

from datetime import date, datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, Word, now, of_team


class ApprovedState(StrEnum):
    """Whether an approved answer is served."""

    DRAFT = "draft"
    APPROVED = "approved"
    RETIRED = "retired"


class ApprovedAnswer(Base):
    """A question and the answer that people approved for it.

    `places` are its sources: character ranges of revisions, or whole documents. `owner` is the name
    of who is responsible for it, `version` counts its changes.
    """

    __tablename__ = "approved_answers"
    __table_args__ = (Index("ix_approved_answers_kb_id", "kb_id", "state", "changed_at"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"))
    question: Mapped[str]
    phrasings: Mapped[list[Any]]
    text: Mapped[str]
    places: Mapped[list[Any]]
    category: Mapped[str] = mapped_column(default="")
    valid_from: Mapped[date | None]
    valid_until: Mapped[date | None]
    owner: Mapped[str] = mapped_column(default="")
    state: Mapped[ApprovedState] = mapped_column(Word(ApprovedState), default=ApprovedState.DRAFT)
    approved_by: Mapped[str] = mapped_column(default="")
    approved_at: Mapped[datetime | None]
    turn_id: Mapped[str | None]
    """The answer that it was made from."""
    followed_at: Mapped[datetime | None]
    """When its places were last followed to a later revision."""
    version: Mapped[int] = mapped_column(default=1)
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now)


class ApprovedVersion(Base):
    """An approved answer as it was after one change."""

    __tablename__ = "approved_versions"
    __table_args__ = (UniqueConstraint("approved_id", "number"),)

    key: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = of_team()
    approved_id: Mapped[str] = mapped_column(ForeignKey("approved_answers.id", ondelete="CASCADE"))
    number: Mapped[int]
    content: Mapped[dict[str, Any]]
    author: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(default=now)


class FlagState(StrEnum):
    """Whether somebody has looked at a flag."""

    OPEN = "open"
    #: The answer is still right.
    CONFIRMED = "confirmed"
    #: The answer was changed or retired.
    SETTLED = "settled"


class ApprovedFlag(Base):
    """A place of an approved answer whose text changed in a later revision.

    `change` is what became of it (reworded, contradicted, removed), `old_text` the text as it was
    approved, and `new_text` characters [`start`, `end`) of `revision_id`, None if the document is
    gone.
    """

    __tablename__ = "approved_flags"
    __table_args__ = (
        UniqueConstraint("approved_id", "place"),
        Index("ix_approved_flags_kb_id", "kb_id", "state"),
    )

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"))
    approved_id: Mapped[str] = mapped_column(ForeignKey("approved_answers.id", ondelete="CASCADE"))
    place: Mapped[int]
    """The index of the place among those of the answer, from 0."""
    document_id: Mapped[str]
    title: Mapped[str]
    change: Mapped[str]
    old_text: Mapped[str]
    new_text: Mapped[str] = mapped_column(default="")
    revision_id: Mapped[str | None]
    start: Mapped[int] = mapped_column(default=0)
    end: Mapped[int] = mapped_column(default=0)
    state: Mapped[FlagState] = mapped_column(Word(FlagState), default=FlagState.OPEN)
    settled_by: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now)


class ProposalState(StrEnum):
    """What was decided about a proposed question."""

    OPEN = "open"
    APPROVED = "approved"
    DISMISSED = "dismissed"


class Proposal(Base):
    """A question that characters [`start`, `end`) of a document's revision answer.

    `quote` is that text: while it is unchanged, the decision is kept. `relevance` is what the
    evidence model says, 0-1.
    """

    __tablename__ = "proposals"
    __table_args__ = (
        UniqueConstraint("document_id", "question"),
        Index("ix_proposals_kb_id", "kb_id", "state"),
    )

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"))
    document_id: Mapped[str] = mapped_column(ForeignKey("documents.id", ondelete="CASCADE"))
    revision_id: Mapped[str]
    start: Mapped[int]
    end: Mapped[int]
    quote: Mapped[str]
    question: Mapped[str]
    phrasings: Mapped[list[Any]]
    answer: Mapped[str]
    relevance: Mapped[float]
    edited: Mapped[bool] = mapped_column(default=False)
    state: Mapped[ProposalState] = mapped_column(Word(ProposalState), default=ProposalState.OPEN)
    approved_id: Mapped[str | None]
    decided_by: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now)


class ProposalRun(Base):
    """The revision of a document whose questions were last proposed; `waiting` for another run."""

    __tablename__ = "proposal_runs"

    document_id: Mapped[str] = mapped_column(
        ForeignKey("documents.id", ondelete="CASCADE"), primary_key=True
    )
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    revision_id: Mapped[str | None]
    waiting: Mapped[bool] = mapped_column(default=True, index=True)
    tried: Mapped[int] = mapped_column(default=0)
    """Questions that were made of its statements, of which those that pass are proposed."""
    passages: Mapped[int] = mapped_column(default=0, server_default="0")
    """Passages that a model has to read; 0 without one."""
    written: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    """What a model wrote about each passage that it has read."""
    tries: Mapped[int] = mapped_column(default=0, server_default="0")
    again_at: Mapped[datetime | None]
    """When a model that failed is asked again."""
    error: Mapped[str] = mapped_column(default="")
    changed_at: Mapped[datetime] = mapped_column(default=now)
