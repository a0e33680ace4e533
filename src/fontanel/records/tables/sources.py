"""Sources, their items, and their sync runs."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import (
    ForeignKey,
    Index,
    UniqueConstraint,
)
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, Word, now, of_team


class SyncState(StrEnum):
    WAITING = "waiting"
    RUNNING = "running"
    #: The guard stopped it: a person decides.
    HELD = "held"
    DONE = "done"
    FAILED = "failed"
    #: Rejected or ended by a person, or overtaken by a later run.
    ENDED = "ended"


class Outcome(StrEnum):
    """What a sync did with an item."""

    ADDED = "added"
    CHANGED = "changed"
    UNCHANGED = "unchanged"
    MOVED = "moved"
    REMOVED = "removed"
    SKIPPED = "skipped"
    FAILED = "failed"
    #: Would be removed, once a person confirms.
    MISSING = "missing"


class Source(Base):
    """A source of documents of a knowledge base.

    `folder` is the folder of its documents there; `credentials` and `signal_secret` are encrypted.
    `tag_rules` are pairs of a pattern and its tags. `last_listed_at` is when the last successful
    listing began: earlier changes are known.
    """

    __tablename__ = "sources"
    __table_args__ = (UniqueConstraint("kb_id", "folder"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    name: Mapped[str]
    kind: Mapped[str]
    folder: Mapped[str]
    settings: Mapped[dict[str, Any]]
    credentials: Mapped[bytes | None]
    credential_names: Mapped[list[Any]]
    tag_rules: Mapped[list[Any]]
    every_minutes: Mapped[int | None]
    cron: Mapped[str | None]
    target_minutes: Mapped[int] = mapped_column(default=15)
    guard_share: Mapped[float] = mapped_column(default=0.2)
    guard_min: Mapped[int] = mapped_column(default=10)
    paused: Mapped[bool] = mapped_column(default=False)
    signal_secret: Mapped[bytes]
    next_run_at: Mapped[datetime | None] = mapped_column(index=True)
    last_listed_at: Mapped[datetime | None]
    failing_since: Mapped[datetime | None]
    failures: Mapped[int] = mapped_column(default=0)
    error: Mapped[str | None]
    late_since: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now)
    version: Mapped[int] = mapped_column(default=1)


class SourceItem(Base):
    """An item of a source, with its mark when it was fetched.

    One without a document and without an error was deleted here by a person, and is not fetched.
    """

    __tablename__ = "source_items"
    __table_args__ = (UniqueConstraint("source_id", "item_id"),)

    key: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = of_team()
    source_id: Mapped[str] = mapped_column(ForeignKey("sources.id", ondelete="CASCADE"))
    item_id: Mapped[str]
    document_key: Mapped[int | None] = mapped_column(
        ForeignKey("documents.key", ondelete="SET NULL"), index=True
    )
    mark: Mapped[str]
    same_as: Mapped[str] = mapped_column(default="")
    notes: Mapped[dict[str, Any] | None]
    error: Mapped[str | None]


class Sync(Base):
    """A run of a source.

    Counts are of items, `held_reason` is why the guard stopped it.
    """

    __tablename__ = "syncs"
    __table_args__ = (Index("ix_syncs_source", "source_id", "created_at"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    source_id: Mapped[str] = mapped_column(ForeignKey("sources.id", ondelete="CASCADE"))
    cause: Mapped[str]
    state: Mapped[SyncState] = mapped_column(Word(SyncState), index=True)
    stage: Mapped[str] = mapped_column(default="")
    confirmed: Mapped[bool] = mapped_column(default=False)
    held_reason: Mapped[str | None]
    error: Mapped[str | None]
    seen: Mapped[int] = mapped_column(default=0)
    expected: Mapped[int] = mapped_column(default=0)
    unchanged: Mapped[int] = mapped_column(default=0)
    added: Mapped[int] = mapped_column(default=0)
    changed: Mapped[int] = mapped_column(default=0)
    moved: Mapped[int] = mapped_column(default=0)
    removed: Mapped[int] = mapped_column(default=0)
    skipped: Mapped[int] = mapped_column(default=0)
    failed: Mapped[int] = mapped_column(default=0)
    bytes: Mapped[int] = mapped_column(default=0)
    skip_reasons: Mapped[dict[str, Any]]
    seconds: Mapped[dict[str, Any]]
    created_at: Mapped[datetime] = mapped_column(default=now)
    started_at: Mapped[datetime | None]
    finished_at: Mapped[datetime | None]


class SyncItem(Base):
    """The outcome of one item in a run.

    Unchanged items are only counted, except for sites, which report each page.
    """

    __tablename__ = "sync_items"
    __table_args__ = (UniqueConstraint("sync_id", "item_id"),)

    key: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = of_team()
    sync_id: Mapped[str] = mapped_column(ForeignKey("syncs.id", ondelete="CASCADE"))
    item_id: Mapped[str]
    outcome: Mapped[Outcome] = mapped_column(Word(Outcome))
    reason: Mapped[str | None]
    document_key: Mapped[int | None]
    revision_id: Mapped[str | None] = mapped_column(index=True)
    bytes: Mapped[int] = mapped_column(default=0)
