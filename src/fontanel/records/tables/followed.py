"""Answers that somebody follows, to be notified when they change."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, now, of_team


class FollowedAnswer(Base):
    """An answer that its asker follows.

    `answer` is what is answered now, `documents` those that it cites; `composed` is whether the
    built-in composer wrote it, so that another of its answers can be compared. `changes` are the
    last ones, the newest first. `feed_hash` is of the secret in the address of its feed. Notices go
    to `address` at a channel, or to `email`; `mail_waiting` is whether one is still to be sent.
    """

    __tablename__ = "followed_answers"
    __table_args__ = (
        UniqueConstraint("asker", "turn_id"),
        Index("ix_followed_answers_thread", "channel_id", "thread"),
    )

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    desk_id: Mapped[str] = mapped_column(ForeignKey("desks.id", ondelete="CASCADE"), index=True)
    turn_id: Mapped[str]
    asker: Mapped[str]
    question: Mapped[str]
    answer: Mapped[str]
    outcome: Mapped[str]
    composed: Mapped[bool]
    documents: Mapped[list[Any]]
    kb_ids: Mapped[list[Any]]
    channel_id: Mapped[str | None] = mapped_column(ForeignKey("channels.id", ondelete="CASCADE"))
    thread: Mapped[str] = mapped_column(default="")
    address: Mapped[dict[str, Any]]
    email: Mapped[str] = mapped_column(default="")
    mail_waiting: Mapped[bool] = mapped_column(default=False)
    feed_hash: Mapped[str] = mapped_column(unique=True)
    changes: Mapped[list[Any]]
    checked_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
