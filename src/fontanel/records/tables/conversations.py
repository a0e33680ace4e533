"""Conversations, their turns, feedback, and what answering used."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import (
    ForeignKey,
    Index,
    UniqueConstraint,
)
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, Word, now, of_team


class TurnState(StrEnum):
    """How far a turn is."""

    ANSWERING = "answering"
    DONE = "done"
    #: The asker stopped it, or left.
    STOPPED = "stopped"
    #: The service was stopped or killed while it was being answered.
    INTERRUPTED = "interrupted"
    FAILED = "failed"


class Conversation(Base):
    """The questions of one asker, at a knowledge base or at a desk."""

    __tablename__ = "conversations"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str | None] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    desk_id: Mapped[str | None] = mapped_column(
        ForeignKey("desks.id", ondelete="CASCADE"), index=True
    )
    asker: Mapped[str] = mapped_column(index=True)
    title: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now, index=True)


class Turn(Base):
    """A question with its answer and everything needed to explain it.

    It is written when the question arrives, and again with the answer. `desk_version` is None for a
    draft; `approved` is the approved answer that was served, `choices` those that were offered;
    `editions` names each knowledge base's edition at the time; `steps`, `prompt`, `raw` and
    `statements` explain the answer; `asked_key` is the request's Idempotency-Key, `asked_hash` a
    hash of the request.
    """

    __tablename__ = "turns"
    __table_args__ = (
        UniqueConstraint("conversation_id", "number"),
        Index("ix_turns_desk", "desk_id", "created_at"),
        Index("ix_turns_asked", "asker", "asked_key", unique=True),
    )

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    conversation_id: Mapped[str] = mapped_column(ForeignKey("conversations.id", ondelete="CASCADE"))
    number: Mapped[int]
    state: Mapped[TurnState] = mapped_column(
        Word(TurnState), default=TurnState.DONE, server_default="done", index=True
    )
    question: Mapped[str]
    standalone: Mapped[str]
    outcome: Mapped[str]
    text: Mapped[str]
    sufficiency: Mapped[float]
    citations: Mapped[list[Any]]
    evidence: Mapped[list[Any]]
    edition_id: Mapped[str]
    composer: Mapped[str]
    seconds: Mapped[dict[str, Any]]
    request_id: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(default=now)
    desk_id: Mapped[str | None]
    desk_version: Mapped[int | None]
    asker: Mapped[str] = mapped_column(default="", server_default="")
    asked_key: Mapped[str | None]
    asked_hash: Mapped[str] = mapped_column(default="", server_default="")
    note: Mapped[str] = mapped_column(default="", server_default="")
    settings: Mapped[dict[str, Any] | None]
    approved: Mapped[dict[str, Any] | None]
    choices: Mapped[list[Any] | None]
    editions: Mapped[dict[str, Any] | None]
    steps: Mapped[list[Any] | None]
    statements: Mapped[list[Any] | None]
    prompt: Mapped[list[Any] | None]
    raw: Mapped[str] = mapped_column(default="", server_default="")
    tokens_read: Mapped[int] = mapped_column(default=0, server_default="0")
    tokens_written: Mapped[int] = mapped_column(default=0, server_default="0")
    cost: Mapped[float] = mapped_column(default=0.0, server_default="0")
    #: When steps, prompt, raw text and evidence were deleted after the team's retention.
    record_deleted_at: Mapped[datetime | None]


class Feedback(Base):
    """An asker's opinion of an answer (`citation` 0), or of one citation.

    `handled` is whether somebody has dealt with it; `reply` is shown to the asker.
    """

    __tablename__ = "feedback"
    __table_args__ = (UniqueConstraint("turn_id", "citation", "asker"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    desk_id: Mapped[str | None] = mapped_column(index=True)
    turn_id: Mapped[str] = mapped_column(ForeignKey("turns.id", ondelete="CASCADE"))
    citation: Mapped[int] = mapped_column(default=0)
    asker: Mapped[str]
    helpful: Mapped[bool]
    reason: Mapped[str] = mapped_column(default="")
    comment: Mapped[str] = mapped_column(default="")
    handled: Mapped[bool] = mapped_column(default=False, server_default="0")
    assignee: Mapped[str] = mapped_column(default="", server_default="")
    reply: Mapped[str] = mapped_column(default="", server_default="")
    replied_by: Mapped[str] = mapped_column(default="", server_default="")
    created_at: Mapped[datetime] = mapped_column(default=now)


class Use(Base):
    """The usage of one question.

    It outlives the conversation, and contains no text of it.
    """

    __tablename__ = "uses"
    __table_args__ = (
        # With what quotas and budgets count, so that they read nothing else.
        Index(
            "ix_uses_team_at",
            "team_id",
            "at",
            "outcome",
            "asker",
            "tokens_read",
            "tokens_written",
            "cost",
        ),
    )

    key: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = of_team()
    turn_id: Mapped[str] = mapped_column(unique=True)
    #: The source, its run and the edition that work in the background was for.
    source_id: Mapped[str | None]
    sync_id: Mapped[str | None] = mapped_column(index=True)
    edition_id: Mapped[str | None] = mapped_column(index=True)
    desk_id: Mapped[str | None]
    kb_ids: Mapped[list[Any]]
    asker: Mapped[str]
    outcome: Mapped[str]
    composer: Mapped[str]
    model: Mapped[str | None]
    """The model that was called, even if another composer wrote the answer in the end."""
    kb_id: Mapped[str | None]
    """The knowledge base that the question counts for: the one that is cited first."""
    link_id: Mapped[str | None]
    """The link by which a guest came."""
    tokens_read: Mapped[int] = mapped_column(default=0)
    tokens_written: Mapped[int] = mapped_column(default=0)
    cost: Mapped[float] = mapped_column(default=0.0)
    recorded_seconds: Mapped[float] = mapped_column(default=0.0)
    """The length of the recording that was transcribed."""
    first_seconds: Mapped[float | None]
    seconds: Mapped[float] = mapped_column(default=0.0)
    helpful: Mapped[bool | None]
    at: Mapped[datetime] = mapped_column(default=now)
