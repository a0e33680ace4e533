"""The audit log: who did what."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import JSON, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base


class AuditLog(Base):
    """The end of each log, and where it was cut off.

    Each team has a log, by its id, and the service has one, `service`. The first `trimmed` entries
    were deleted; `trimmed_hash` is the hash of the last of them.
    """

    __tablename__ = "audit_logs"

    log: Mapped[str] = mapped_column(primary_key=True)
    number: Mapped[int] = mapped_column(default=0)
    hash: Mapped[str]
    trimmed: Mapped[int] = mapped_column(default=0)
    trimmed_hash: Mapped[str]


class AuditEntry(Base):
    """What somebody did, or was refused.

    Entries are only added: triggers of the database refuse changes, except that `who` and `salt`
    may be erased, and deletions, except of entries that their log's row counts as trimmed.
    """

    __tablename__ = "audit_entries"
    __table_args__ = (
        UniqueConstraint("log", "number"),
        Index("ix_audit_entries_actor", "actor_id", "key"),
        Index("ix_audit_entries_at", "at"),
        {"sqlite_autoincrement": True},
    )

    key: Mapped[int] = mapped_column(primary_key=True)
    log: Mapped[str]
    number: Mapped[int]
    at: Mapped[datetime]
    actor_kind: Mapped[str]
    actor_id: Mapped[str]
    action: Mapped[str]
    target: Mapped[str]
    changes: Mapped[list[Any]]
    outcome: Mapped[str]
    problem: Mapped[str | None]
    count: Mapped[int] = mapped_column(default=1)
    request_id: Mapped[str | None]
    who: Mapped[dict[str, Any] | None] = mapped_column(JSON(none_as_null=True))
    salt: Mapped[str | None]
    who_hash: Mapped[str]
    previous: Mapped[str]
    hash: Mapped[str]


class AuditForwarding(Base):
    """How far entries were sent to an address outside."""

    __tablename__ = "audit_forwarding"

    address: Mapped[str] = mapped_column(primary_key=True)
    key: Mapped[int] = mapped_column(default=0)
