"""Followed answers as the API returns them."""

from __future__ import annotations

from fontanel.records.tables import FollowedAnswer
from fontanel.schemas import AnswerChange, FollowedOut


def followed_out(row: FollowedAnswer) -> FollowedOut:
    return FollowedOut(
        id=row.id,
        turn_id=row.turn_id,
        question=row.question,
        answer=row.answer,
        email=bool(row.email),
        changes=[
            AnswerChange(at=one["at"], before=one["before"], after=one["after"])
            for one in row.changes
        ],
        changed_at=row.changed_at,
        created_at=row.created_at,
    )
