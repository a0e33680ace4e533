"""Knowledge bases, their editions, and what their index consists of."""

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

from fontanel.facts import OutdatedRanking
from fontanel.records.tables.base import Base, Word, now, of_team


class Kb(Base):
    __tablename__ = "kbs"
    __table_args__ = (UniqueConstraint("team_id", "slug"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    slug: Mapped[str]
    name: Mapped[str]
    description: Mapped[str] = mapped_column(default="")
    edition_id: Mapped[str]
    #: The name of the model that describes its documents; None: their own words do.
    describer: Mapped[str | None]
    outdated: Mapped[OutdatedRanking] = mapped_column(
        Word(OutdatedRanking), default=OutdatedRanking.LOWER, server_default="lower"
    )
    proposes_questions: Mapped[bool] = mapped_column(default=False, server_default="0")
    """Whether the questions that its documents answer are proposed for approval."""
    accepts_proposed_documents: Mapped[bool] = mapped_column(default=False, server_default="0")
    """Whether programs may propose documents, for its editors to accept."""
    #: The name of the model that proposes questions; None: they are made from the text by rules.
    proposer: Mapped[str | None]
    #: The question set that another edition has to pass before it is activated, and how many of its
    #: questions that edition may lose.
    trial_set: Mapped[str | None]
    max_losses: Mapped[int] = mapped_column(default=0, server_default="0")
    #: The name of what transcribes its recordings, and the language that it is told; None: it finds
    #: out.
    transcriber: Mapped[str | None]
    spoken: Mapped[str | None]
    #: The name of the model that describes pictures, and how many of each document.
    viewer: Mapped[str | None]
    max_pictures: Mapped[int] = mapped_column(default=20, server_default="20")
    created_at: Mapped[datetime] = mapped_column(default=now)
    expires_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(default=1)


class PausedBy(StrEnum):
    """Why the build of an edition is paused."""

    PERSON = "person"
    BUDGET = "budget"


class Edition(Base):
    """An index of a knowledge base with fixed settings.

    `embedder` is None while the service has none: keyword search only. Editions of a knowledge base
    are numbered from 1, and it names the active one. One that `replaces_active` is activated as
    soon as it is built. `budget` is the maximum cost of building it, in its embedder's currency.
    """

    __tablename__ = "editions"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    number: Mapped[int] = mapped_column(default=1, server_default="1")
    embedder: Mapped[str | None]
    settings: Mapped[dict[str, Any]]
    replaces_active: Mapped[bool] = mapped_column(default=False, server_default="0")
    budget: Mapped[float | None]
    paused_by: Mapped[PausedBy | None] = mapped_column(Word(PausedBy))
    created_at: Mapped[datetime] = mapped_column(default=now)


class Segment(Base):
    """A segment file of an edition. A segment that no row names is swept at start."""

    __tablename__ = "segments"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    edition_id: Mapped[str] = mapped_column(
        ForeignKey("editions.id", ondelete="CASCADE"), index=True
    )
    kind: Mapped[str]
    passages: Mapped[int]


class Tombstone(Base):
    """A passage that was removed from an edition while a segment still contains it."""

    __tablename__ = "tombstones"

    edition_id: Mapped[str] = mapped_column(
        ForeignKey("editions.id", ondelete="CASCADE"), primary_key=True
    )
    passage_id: Mapped[int] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()


class PassageRow(Base):
    """A passage of a revision in an edition.

    Ids are never reused, as segments name them.
    """

    __tablename__ = "passages"
    __table_args__ = (
        # With an index of the edition alone, SQLite would read all of its passages to find those
        # of a document or a revision.
        Index("ix_passages_of_document", "document_key", "edition_id"),
        Index("ix_passages_of_revision", "revision_id", "edition_id"),
        {"sqlite_autoincrement": True},
    )

    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = of_team()
    edition_id: Mapped[str] = mapped_column(
        ForeignKey("editions.id", ondelete="CASCADE"), index=True
    )
    document_key: Mapped[int] = mapped_column(ForeignKey("documents.key", ondelete="CASCADE"))
    revision_id: Mapped[str] = mapped_column(ForeignKey("revisions.id", ondelete="CASCADE"))
    ordinal: Mapped[int]
    start: Mapped[int]
    end: Mapped[int]
    text: Mapped[str]
    context: Mapped[str]
    tokens: Mapped[int]
    locator: Mapped[dict[str, Any]]
    parts: Mapped[list[Any]]
    embedded_text: Mapped[str]
