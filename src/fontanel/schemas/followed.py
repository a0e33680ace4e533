"""Answers that somebody follows."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from fontanel.schemas.base import Model


class FollowIn(Model):
    email: bool = Field(
        default=False, description="Send changes by e-mail as well; for members of the team."
    )


class AnswerChange(Model):
    at: datetime
    before: str
    after: str


class FollowedOut(Model):
    """A followed answer with its last changes, the newest first."""

    id: str
    turn_id: str
    question: str
    answer: str = Field(description="What is answered now.")
    email: bool
    changes: list[AnswerChange]
    changed_at: datetime | None
    created_at: datetime


class FollowCreated(FollowedOut):
    """A followed answer with the address of its Atom feed, shown once."""

    feed: str
