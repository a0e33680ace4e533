"""What was erased about people and documents."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, now


class Erasure(Base):
    """The erasure of a person or of a document, without anything of their contents.

    `removed` counts what was deleted or changed, by kind; `mentions` the records that still contain
    the name. `remains` are the files, vectors and editions that a background thread still has to
    clear of a document; `finished_at` is when it has. Backups from before are deleted by
    `in_backups_until`.
    """

    __tablename__ = "erasures"

    id: Mapped[str] = mapped_column(primary_key=True)
    person_id: Mapped[str | None]
    team_id: Mapped[str | None] = mapped_column(index=True)
    document_id: Mapped[str | None]
    asked_by: Mapped[str]
    removed: Mapped[dict[str, Any]]
    mentions: Mapped[dict[str, Any]]
    remains: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    in_backups_until: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
    finished_at: Mapped[datetime | None]
