"""Backups that were taken of this data directory."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum

from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, Word, now


class BackupState(StrEnum):
    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"


class Backup(Base):
    """A run that takes a backup.

    Sizes are in bytes: `total` and `done` of the data directory, `new` of what was added to the
    place. `checked` says how the backup was checked, `error` why there is none.
    """

    __tablename__ = "backups"

    id: Mapped[str] = mapped_column(primary_key=True)
    state: Mapped[BackupState] = mapped_column(Word(BackupState), index=True)
    asked_by: Mapped[str]
    place: Mapped[str]
    encrypted: Mapped[bool] = mapped_column(default=False)
    total: Mapped[int] = mapped_column(default=0)
    done: Mapped[int] = mapped_column(default=0)
    new: Mapped[int] = mapped_column(default=0)
    files: Mapped[int] = mapped_column(default=0)
    documents: Mapped[int] = mapped_column(default=0)
    checked: Mapped[str] = mapped_column(default="")
    error: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = mapped_column(default=now)
    finished_at: Mapped[datetime | None]
    deleted_at: Mapped[datetime | None]
