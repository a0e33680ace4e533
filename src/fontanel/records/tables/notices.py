"""Notices to members, and the receivers they are sent to."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    ForeignKey,
)
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, Word, now, of_team
from fontanel.records.tables.documents import JobState


class Notice(Base):
    """Something that members should know.

    A failed or held run, a late source, a low budget.

    `kind` is the last part of the event's type; `kb_id` is None for what concerns the whole team.
    An `event` is only sent to receivers, and not shown.
    """

    __tablename__ = "notices"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str | None] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    source_id: Mapped[str | None] = mapped_column(
        ForeignKey("sources.id", ondelete="CASCADE"), index=True
    )
    kind: Mapped[str]
    message: Mapped[str]
    data: Mapped[dict[str, Any]]
    event: Mapped[bool] = mapped_column(default=False, server_default="0")
    created_at: Mapped[datetime] = mapped_column(default=now, index=True)


class Receiver(Base):
    """An address that receives notices of some kinds as signed events.

    `secret` is encrypted.
    """

    __tablename__ = "receivers"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    url: Mapped[str]
    secret: Mapped[bytes]
    kinds: Mapped[list[Any]]
    paused: Mapped[bool] = mapped_column(default=False)
    created_at: Mapped[datetime] = mapped_column(default=now)


class Delivery(Base):
    """A notice in the queue of a receiver."""

    __tablename__ = "deliveries"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    receiver_id: Mapped[str] = mapped_column(
        ForeignKey("receivers.id", ondelete="CASCADE"), index=True
    )
    notice_id: Mapped[str] = mapped_column(ForeignKey("notices.id", ondelete="CASCADE"), index=True)
    state: Mapped[JobState] = mapped_column(Word(JobState))
    attempts: Mapped[int] = mapped_column(default=0)
    error: Mapped[str | None]
    run_after: Mapped[datetime] = mapped_column(default=now)
    created_at: Mapped[datetime] = mapped_column(default=now)
    sent_at: Mapped[datetime | None]
