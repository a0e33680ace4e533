"""Backups and examinations of the service."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field

from fontanel.schemas.base import Model


class BackupOut(Model):
    """A backup, or the attempt to take one; sizes are in bytes."""

    id: str
    state: Literal["waiting", "running", "done", "failed"]
    asked_by: str = Field(description="Who asked for it; `schedule` if it was due.")
    place: str
    encrypted: bool
    total: int = Field(description="The size of what is backed up.")
    done: int
    new: int = Field(description="What was added to the place.")
    files: int
    documents: int
    checked: str = Field(description="How it was checked; empty before.")
    error: str
    created_at: datetime
    finished_at: datetime | None
    deleted_at: datetime | None = Field(description="When it was deleted for its age.")


class BackupsOut(Model):
    """The backups of a service, the newest first."""

    place: str = Field(description="Where backups are stored; empty when none are taken.")
    schedule: str
    days: int = Field(description="How long a backup is kept.")
    next_at: datetime | None = Field(description="When the next one is due.")
    items: list[BackupOut]


class FindingOut(Model):
    """One result of an examination."""

    check: str
    state: Literal["ok", "warning", "problem"]
    text: str
    advice: str = Field(description="What to do; empty when all is well.")


class SupportBundle(Model):
    """What helps to find a fault, without secrets and contents."""

    findings: list[FindingOut]
    settings: dict[str, Any]
    versions: dict[str, Any]
    rows: dict[str, int] = Field(description="The number of rows of each table.")
