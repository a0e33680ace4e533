"""What was erased about people."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, now


class Erasure(Base):
    """The erasure of a person, without anything personal.

    `removed` counts what was deleted or changed, by kind; `mentions` the records that still contain
    the name or the e-mail address. Backups from before are deleted by `in_backups_until`.
    """

    __tablename__ = "erasures"

    id: Mapped[str] = mapped_column(primary_key=True)
    person_id: Mapped[str]
    asked_by: Mapped[str]
    removed: Mapped[dict[str, Any]]
    mentions: Mapped[dict[str, Any]]
    in_backups_until: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
