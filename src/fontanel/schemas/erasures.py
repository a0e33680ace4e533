"""Erasures of people and documents."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from fontanel.schemas.base import Model


class ErasureOut(Model):
    """The proof of an erasure, without anything of what was erased."""

    id: str
    person_id: str | None = Field(description="The id that the person had.")
    document_id: str | None = Field(None, description="The id that the document had.")
    team_id: str | None = Field(None, description="The document's team.")
    asked_by: str
    removed: dict[str, int] = Field(
        description="How many records were deleted or made anonymous, by kind."
    )
    mentions: dict[str, int] = Field(
        description="How many other records contain the name or address, by table."
    )
    in_backups_until: datetime | None = Field(
        description="When the last backup from before is deleted; null without backups."
    )
    created_at: datetime
    finished_at: datetime | None = Field(
        None, description="When the last file was deleted; null while some are left."
    )
