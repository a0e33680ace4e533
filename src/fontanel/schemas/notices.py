"""Notices to members, and the receivers they are sent to as signed events."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from pydantic import Field, StringConstraints

from fontanel.facts import EventKind, NoticeKind
from fontanel.schemas.base import Model


class NoticeOut(Model):
    id: str
    kind: NoticeKind
    kb_id: str | None
    source_id: str | None
    message: str
    data: dict[str, Any]
    created_at: datetime
    seen: bool


class NoticesOut(Model):
    """Notices, newest first; `unseen` counts those since this person last looked."""

    items: list[NoticeOut]
    unseen: int
    next: str | None = None


class ReceiverIn(Model):
    url: Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=2000)] = (
        Field(examples=["https://ops.skerrow.example/events"])
    )
    kinds: list[NoticeKind | EventKind] = Field(
        [],
        max_length=30,
        description=(
            "Empty: all notices. `answer.answered`, `answer.declined`, `feedback.given` and"
            " `gap.opened` are only sent if they are named."
        ),
    )


class ReceiverOut(Model):
    """`failing` is why the last delivery failed, if it did."""

    id: str
    url: str
    kinds: list[NoticeKind | EventKind]
    paused: bool
    waiting: int
    last_sent_at: datetime | None
    failing: str | None
    created_at: datetime


class ReceiverCreated(ReceiverOut):
    """A receiver with the secret of its signatures, shown only once."""

    secret: str
