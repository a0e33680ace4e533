"""Channels through which people ask a desk, and the messages that came and went through them."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, Word, now, of_team


class MessageKind(StrEnum):
    """What a message is."""

    QUESTION = "question"
    #: Replaces an earlier question of the same asker; the reply to that is edited.
    CORRECTION = "correction"
    #: Says whether an answer helped.
    FEEDBACK = "feedback"
    #: Asks for a person.
    PERSON = "person"
    #: Follows an answer, or stops following it.
    FOLLOW = "follow"
    #: Written by the service: a question that is passed to a person, or a test.
    NOTE = "note"


class MessageState(StrEnum):
    """How far a message is."""

    #: It will be answered.
    WAITING = "waiting"
    #: Its reply will be sent.
    ANSWERED = "answered"
    SENT = "sent"
    #: It needs no reply: feedback.
    NOTED = "noted"
    IGNORED = "ignored"
    FAILED = "failed"


class Channel(Base):
    """A way by which people ask a desk from elsewhere.

    `credentials` are encrypted. `position` is how far messages were received, in the form of the
    kind; `error` is why the channel does not work now, since `failing_since`.
    """

    __tablename__ = "channels"
    __table_args__ = (UniqueConstraint("team_id", "name"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    desk_id: Mapped[str] = mapped_column(ForeignKey("desks.id", ondelete="CASCADE"), index=True)
    name: Mapped[str]
    kind: Mapped[str]
    settings: Mapped[dict[str, Any]]
    credentials: Mapped[bytes | None]
    credential_names: Mapped[list[Any]]
    paused: Mapped[bool] = mapped_column(default=False)
    position: Mapped[str] = mapped_column(default="")
    error: Mapped[str | None]
    failing_since: Mapped[datetime | None]
    noticed: Mapped[bool] = mapped_column(default=False)
    """Whether the team was sent a notice of that."""
    connected_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now)
    version: Mapped[int] = mapped_column(default=1)


class ChannelMessage(Base):
    """A message that came through a channel, with its reply.

    `external_id` is the message's identity at the other side, `about` that of the message which it
    corrects or judges. `address` is what the kind needs to reply. `sent_id` is the identity of the
    reply at the other side, `replaces` that of the reply which it edits.
    """

    __tablename__ = "channel_messages"
    __table_args__ = (
        UniqueConstraint("channel_id", "external_id"),
        Index("ix_channel_messages_received", "channel_id", "received_at"),
        Index("ix_channel_messages_thread", "channel_id", "thread"),
        Index("ix_channel_messages_sent", "channel_id", "sent_id"),
        Index(
            "ix_channel_messages_open",
            "state",
            "run_after",
            sqlite_where=text("state IN ('waiting', 'answered')"),
        ),
    )

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    channel_id: Mapped[str] = mapped_column(ForeignKey("channels.id", ondelete="CASCADE"))
    external_id: Mapped[str]
    kind: Mapped[MessageKind] = mapped_column(Word(MessageKind))
    state: Mapped[MessageState] = mapped_column(Word(MessageState))
    reason: Mapped[str] = mapped_column(default="")
    """Why it is ignored, or what failed."""
    thread: Mapped[str]
    room: Mapped[str] = mapped_column(default="")
    sender: Mapped[str]
    sender_name: Mapped[str] = mapped_column(default="")
    text: Mapped[str]
    about: Mapped[str] = mapped_column(default="")
    address: Mapped[dict[str, Any]]
    turn_id: Mapped[str | None]
    conversation_id: Mapped[str | None]
    reply: Mapped[str] = mapped_column(default="")
    sources: Mapped[list[Any]] = mapped_column(default=list)
    replaces: Mapped[str] = mapped_column(default="")
    sent_id: Mapped[str] = mapped_column(default="")
    attempts: Mapped[int] = mapped_column(default=0)
    run_after: Mapped[datetime] = mapped_column(default=now)
    received_at: Mapped[datetime] = mapped_column(default=now)
    answered_at: Mapped[datetime | None]
    sent_at: Mapped[datetime | None]
