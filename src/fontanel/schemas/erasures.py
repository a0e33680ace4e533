"""Erasures of people."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from fontanel.schemas.base import Model


class ErasureOut(Model):
    """The proof of an erasure, without anything personal."""

    id: str
    person_id: str = Field(description="The id that the person had.")
    asked_by: str
    removed: dict[str, int] = Field(
        description="How many records were deleted or made anonymous, by kind."
    )
    mentions: dict[str, int] = Field(
        description="How many records that others wrote contain the name or address, by table."
    )
    in_backups_until: datetime | None = Field(
        description="When the last backup that has the person is deleted; null without backups."
    )
    created_at: datetime
