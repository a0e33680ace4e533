"""Documents, their revisions and tags, and the jobs that index them."""

from __future__ import annotations

from datetime import date, datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import (
    ColumnElement,
    ForeignKey,
    Index,
    UniqueConstraint,
)
from sqlalchemy.ext.hybrid import hybrid_property
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.core.validity import ValidityKind
from fontanel.facts import DocumentState, ValidityMark
from fontanel.records.tables.base import Base, Word, now, of_team


class JobState(StrEnum):
    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"
    PAUSED = "paused"


class JobStage(StrEnum):
    READ = "read"
    EMBED = "embed"


class Document(Base):
    """A document with a stable name in a knowledge base.

    `parent_key` is the document that contains it: an archive, a message, a table whose rows are
    documents. `source_id` is its source, None for what people added; `link` opens the original at
    its source; `described_by` is the model that wrote its description, None if it is built in.
    """

    __tablename__ = "documents"
    __table_args__ = (
        UniqueConstraint("kb_id", "name"),
        Index("ix_documents_changed", "kb_id", "changed_at"),
        Index("ix_documents_change", "kb_id", "change"),
        Index("ix_documents_state", "kb_id", "state"),
        {"sqlite_autoincrement": True},
    )

    key: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    id: Mapped[str] = mapped_column(unique=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"))
    parent_key: Mapped[int | None] = mapped_column(index=True)
    source_id: Mapped[str | None] = mapped_column(index=True)
    link: Mapped[str] = mapped_column(default="", server_default="")
    name: Mapped[str]
    title: Mapped[str]
    description: Mapped[str] = mapped_column(default="", server_default="")
    described_by: Mapped[str | None]
    state: Mapped[DocumentState] = mapped_column(Word(DocumentState))
    progress: Mapped[float | None]
    error_code: Mapped[str | None]
    error: Mapped[str | None]
    revision_id: Mapped[str | None]
    latest_revision_id: Mapped[str]
    tags: Mapped[dict[str, Any]]
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now, onupdate=now)
    version: Mapped[int] = mapped_column(default=1)
    #: Increases with every change of any document (see `records/sequence.py`).
    change: Mapped[int] = mapped_column(default=0, server_default="0")


class DocumentTag(Base):
    """A document's tags again, a row each, for filters."""

    __tablename__ = "document_tags"
    __table_args__ = (Index("ix_document_tags_lookup", "kb_id", "tag", "value"),)

    document_key: Mapped[int] = mapped_column(
        ForeignKey("documents.key", ondelete="CASCADE"), primary_key=True
    )
    tag: Mapped[str] = mapped_column(primary_key=True)
    value: Mapped[str]
    kb_id: Mapped[str]
    team_id: Mapped[str] = of_team()


class Revision(Base):
    """One content version of a document.

    `reading` is the blob of its text and blocks, once it was read; `report` the reading report;
    `columns` the meaning of its table's columns, if set. `embedded` counts the passages that were
    not in the vector cache. `source_changed_at` is when it changed at its source, `answerable_at`
    when its words were first searchable. `opening_dates` are the dates at its beginning, by which
    other documents may refer to it; None: not searched for yet.
    """

    __tablename__ = "revisions"
    __table_args__ = (UniqueConstraint("document_key", "number"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    document_key: Mapped[int] = mapped_column(
        ForeignKey("documents.key", ondelete="CASCADE"), index=True
    )
    number: Mapped[int]
    sha256: Mapped[str] = mapped_column(index=True)
    size: Mapped[int]
    media_type: Mapped[str | None]
    reading: Mapped[str | None] = mapped_column(index=True)
    pages: Mapped[int | None]
    #: The length of a recording in seconds.
    duration: Mapped[float | None]
    #: How many pictures it has that can be described; None: not searched for. Its text has all
    #: descriptions of them by this model that there are.
    pictures: Mapped[int | None]
    viewed_by: Mapped[str | None]
    passages: Mapped[int | None]
    tokens: Mapped[int | None]
    language: Mapped[str | None]
    warnings: Mapped[list[Any]]
    report: Mapped[dict[str, Any] | None]
    columns: Mapped[dict[str, Any] | None]
    seconds: Mapped[dict[str, Any]]
    opening_dates: Mapped[list[Any] | None]
    embedded: Mapped[int] = mapped_column(default=0, server_default="0")
    created_at: Mapped[datetime] = mapped_column(default=now)
    source_changed_at: Mapped[datetime | None]
    answerable_at: Mapped[datetime | None]
    indexed_at: Mapped[datetime | None]
    #: When its bytes were deleted after the team's retention; its text stays.
    original_deleted_at: Mapped[datetime | None]


class Validity(Base):
    """Whether a document is in force: what its text says, and what a person decided.

    `statements` are those of the text, as JSON. `mark` is the decision, None without one;
    `replaced_by_key` the replacement that it names, and `marked_by` the person's name.
    """

    __tablename__ = "validities"

    document_key: Mapped[int] = mapped_column(
        ForeignKey("documents.key", ondelete="CASCADE"), primary_key=True
    )
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    statements: Mapped[list[Any]]
    in_force_from: Mapped[date | None]
    in_force_until: Mapped[date | None]
    withdrawn: Mapped[bool] = mapped_column(default=False)
    mark: Mapped[ValidityMark | None] = mapped_column(Word(ValidityMark))
    replaced_by_key: Mapped[int | None] = mapped_column(
        ForeignKey("documents.key", ondelete="SET NULL"), index=True
    )
    marked_by: Mapped[str] = mapped_column(default="")
    marked_at: Mapped[datetime | None]


class DocumentReference(Base):
    """A document's text names another that it replaces, or that replaces it.

    `names` is the name in the text, `lookup` the number or the beginning of the word by which its
    document is looked up, and `named_on` the date in it; `target_key` is the document that is
    meant, once it is known.
    """

    __tablename__ = "document_references"
    __table_args__ = (Index("ix_document_references_lookup", "kb_id", "lookup", "named_on"),)

    key: Mapped[int] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"))
    document_key: Mapped[int] = mapped_column(
        ForeignKey("documents.key", ondelete="CASCADE"), index=True
    )
    relation: Mapped[ValidityKind] = mapped_column(Word(ValidityKind))
    names: Mapped[str]
    lookup: Mapped[str]
    named_on: Mapped[date | None]
    target_key: Mapped[int | None] = mapped_column(
        ForeignKey("documents.key", ondelete="SET NULL"), index=True
    )


class DocumentName(Base):
    """A word, number or date by which other documents may refer to a document."""

    __tablename__ = "document_names"
    __table_args__ = (Index("ix_document_names_lookup", "kb_id", "lookup"),)

    document_key: Mapped[int] = mapped_column(
        ForeignKey("documents.key", ondelete="CASCADE"), primary_key=True
    )
    lookup: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"))


class PageEdges(Base):
    """The blocks at the edges of a web page, by which what repeats is found.

    `collection` groups the pages that are compared; `left_out` are the fingerprints of those of
    its blocks that repeated when it was read.
    """

    __tablename__ = "page_edges"
    __table_args__ = (Index("ix_page_edges_collection", "kb_id", "collection"),)

    document_key: Mapped[int] = mapped_column(
        ForeignKey("documents.key", ondelete="CASCADE"), primary_key=True
    )
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"))
    collection: Mapped[str]
    fingerprints: Mapped[list[Any]]
    left_out: Mapped[list[Any]]


class Description(Base):
    """A model's description of a revision, or why there is none.

    `title` is empty if the document keeps its own; a failed call is retried at `again_at`, unless
    that is None.
    """

    __tablename__ = "descriptions"

    revision_id: Mapped[str] = mapped_column(
        ForeignKey("revisions.id", ondelete="CASCADE"), primary_key=True
    )
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    model: Mapped[str]
    title: Mapped[str] = mapped_column(default="")
    description: Mapped[str] = mapped_column(default="")
    error: Mapped[str | None]
    tries: Mapped[int] = mapped_column(default=0)
    again_at: Mapped[datetime | None]
    at: Mapped[datetime] = mapped_column(default=now)


class ProposedDocumentState(StrEnum):
    """What was decided about a proposed document."""

    OPEN = "open"
    ACCEPTED = "accepted"
    DISMISSED = "dismissed"


class ProposedDocument(Base):
    """A document that a program proposes; editors accept or dismiss it.

    `replaces` is the revision that it was proposed to replace, None for a new document;
    `document_id` is the document that it changes or became. The text is empty once it is decided.
    """

    __tablename__ = "proposed_documents"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    name: Mapped[str]
    text: Mapped[str]
    reason: Mapped[str] = mapped_column(default="")
    replaces: Mapped[str | None]
    state: Mapped[ProposedDocumentState] = mapped_column(
        Word(ProposedDocumentState), default=ProposedDocumentState.OPEN
    )
    proposed_by: Mapped[str]
    decided_by: Mapped[str] = mapped_column(default="")
    note: Mapped[str] = mapped_column(default="")
    document_id: Mapped[str | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
    decided_at: Mapped[datetime | None]


class Job(Base):
    """A revision on its way into an edition."""

    __tablename__ = "jobs"
    __table_args__ = (
        Index("ix_jobs_waiting", "state", "stage", "run_after"),
        Index("ix_jobs_by_team", "state", "stage", "embedder", "team_id"),
    )

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    document_key: Mapped[int] = mapped_column(
        ForeignKey("documents.key", ondelete="CASCADE"), index=True
    )
    revision_id: Mapped[str] = mapped_column(ForeignKey("revisions.id", ondelete="CASCADE"))
    edition_id: Mapped[str | None] = mapped_column(index=True)
    stage: Mapped[JobStage] = mapped_column(Word(JobStage))
    #: The embedder that a job of the second stage waits for.
    embedder: Mapped[str | None]
    state: Mapped[JobState] = mapped_column(Word(JobState))
    attempts: Mapped[int] = mapped_column(default=0)
    done: Mapped[int] = mapped_column(default=0)
    total: Mapped[int] = mapped_column(default=0)
    error: Mapped[str | None]
    run_after: Mapped[datetime] = mapped_column(default=now)
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now)

    @hybrid_property
    def for_active(self) -> bool:
        """Return whether it is for the active edition, and changes its document's state."""
        return self.edition_id is None

    @for_active.inplace.expression
    @classmethod
    def _for_active_expression(cls) -> ColumnElement[bool]:
        return cls.edition_id.is_(None)
