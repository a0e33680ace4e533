"""The tables. Everything a team owns carries its `team_id`, and is read through `TeamScope` alone."""

from __future__ import annotations

from datetime import UTC, datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import JSON, DateTime, ForeignKey, Index, LargeBinary, MetaData, String, TypeDecorator, UniqueConstraint
from sqlalchemy.engine import Dialect
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship


def now() -> datetime:
    return datetime.now(UTC)


class UtcDateTime(TypeDecorator[datetime]):
    """SQLite keeps no zone: times go in as UTC and come back aware."""

    impl = DateTime
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Dialect) -> datetime | None:
        return None if value is None else value.astimezone(UTC).replace(tzinfo=None)

    def process_result_value(self, value: datetime | None, dialect: Dialect) -> datetime | None:
        return None if value is None else value.replace(tzinfo=UTC)


class Word(TypeDecorator[StrEnum]):
    """A word of a fixed set, kept as text and given back as its enumeration's member."""

    impl = String
    cache_ok = True

    def __init__(self, kind: type[StrEnum]) -> None:
        super().__init__(20)
        self.kind = kind

    def process_bind_param(self, value: StrEnum | str | None, dialect: Dialect) -> str | None:
        return None if value is None else self.kind(value).value

    def process_result_value(self, value: str | None, dialect: Dialect) -> StrEnum | None:
        return None if value is None else self.kind(value)


class Role(StrEnum):
    READER = "reader"
    EDITOR = "editor"
    OWNER = "owner"


class DocumentState(StrEnum):
    WAITING = "waiting"
    READING = "reading"
    SPLITTING = "splitting"
    INDEXED_BY_WORDS = "indexed_by_words"
    INDEXED = "indexed"
    FAILED = "failed"
    #: It left its source: out of searches and answers, kept a while for what cites it.
    REMOVED = "removed"


#: Nothing more becomes of a document by itself.
SETTLED = (DocumentState.INDEXED, DocumentState.FAILED, DocumentState.REMOVED)


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


class JobState(StrEnum):
    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"


class JobStage(StrEnum):
    READ = "read"
    EMBED = "embed"


class Base(DeclarativeBase):
    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(table_name)s_%(column_0_N_name)s",
            "uq": "uq_%(table_name)s_%(column_0_N_name)s",
            "fk": "fk_%(table_name)s_%(column_0_name)s",
            "pk": "pk_%(table_name)s",
        }
    )
    type_annotation_map = {datetime: UtcDateTime, dict[str, Any]: JSON, list[Any]: JSON, bytes: LargeBinary}


def of_team() -> Any:
    return mapped_column(ForeignKey("teams.id", ondelete="CASCADE"), index=True)


class Person(Base):
    __tablename__ = "people"

    id: Mapped[str] = mapped_column(primary_key=True)
    email: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    password_hash: Mapped[str]
    operator: Mapped[bool] = mapped_column(default=False)
    created_at: Mapped[datetime] = mapped_column(default=now)


class SignIn(Base):
    """A person's session at the console, found by the hash of its cookie. `id` names it to the person; `address` and `agent` say
    from where it was opened."""

    __tablename__ = "sign_ins"

    token_hash: Mapped[str] = mapped_column(primary_key=True)
    id: Mapped[str] = mapped_column(server_default="")
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"), index=True)
    address: Mapped[str] = mapped_column(default="", server_default="")
    agent: Mapped[str] = mapped_column(default="", server_default="")
    created_at: Mapped[datetime] = mapped_column(default=now)
    expires_at: Mapped[datetime]


class PasswordLink(Base):
    """A one-time link by which a person sets a new password. Made by an operator; its secret is kept hashed."""

    __tablename__ = "password_links"

    secret_hash: Mapped[str] = mapped_column(primary_key=True)
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"), index=True)
    expires_at: Mapped[datetime]


class Team(Base):
    """`kept_days` is how long conversations are kept after their last question, None for good; `monthly_tokens` what the team's
    desks may use of models in a calendar month. `source_folders` and `source_networks` are what its sources may read of what the
    operator allows; None (teams from before these grants) is all of it."""

    __tablename__ = "teams"

    id: Mapped[str] = mapped_column(primary_key=True)
    slug: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    time_zone: Mapped[str] = mapped_column(default="UTC", server_default="UTC")
    kept_days: Mapped[int | None]
    monthly_tokens: Mapped[int | None]
    source_folders: Mapped[list[Any] | None] = mapped_column(default=list)
    source_networks: Mapped[list[Any] | None] = mapped_column(default=list)
    created_at: Mapped[datetime] = mapped_column(default=now)
    version: Mapped[int] = mapped_column(default=1)


class Member(Base):
    __tablename__ = "members"
    __table_args__ = (UniqueConstraint("team_id", "person_id"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"), index=True)
    role: Mapped[Role] = mapped_column(Word(Role))
    notices_seen_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
    person: Mapped[Person] = relationship(lazy="joined")


class Invitation(Base):
    """A one-time link by which somebody joins a team. Its secret is kept hashed; accepting it removes it."""

    __tablename__ = "invitations"
    __table_args__ = (UniqueConstraint("team_id", "email"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    email: Mapped[str]
    name: Mapped[str]
    role: Mapped[Role] = mapped_column(Word(Role))
    secret_hash: Mapped[str] = mapped_column(unique=True)
    invited_by: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(default=now)
    expires_at: Mapped[datetime]


class Key(Base):
    __tablename__ = "keys"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    name: Mapped[str]
    start: Mapped[str]
    secret_hash: Mapped[str] = mapped_column(unique=True)
    role: Mapped[Role] = mapped_column(Word(Role))
    kb_ids: Mapped[list[Any] | None]
    #: Who made it; `by_operator`: without being a member of the team.
    made_by: Mapped[str] = mapped_column(default="", server_default="")
    by_operator: Mapped[bool] = mapped_column(default=False, server_default="0")
    created_at: Mapped[datetime] = mapped_column(default=now)
    expires_at: Mapped[datetime | None]
    last_used_at: Mapped[datetime | None]


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
    created_at: Mapped[datetime] = mapped_column(default=now)
    expires_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(default=1)


class Edition(Base):
    """One index of a kb under fixed settings. `embedder` is None while the service has none: words alone. Editions of a kb are
    numbered from 1; the kb says which one serves. One that `takes_over` serves as soon as it is built."""

    __tablename__ = "editions"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    number: Mapped[int] = mapped_column(default=1, server_default="1")
    embedder: Mapped[str | None]
    settings: Mapped[dict[str, Any]]
    takes_over: Mapped[bool] = mapped_column(default=False, server_default="0")
    created_at: Mapped[datetime] = mapped_column(default=now)


class Segment(Base):
    """A segment file of an edition. A segment that no row names is swept at start."""

    __tablename__ = "segments"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    edition_id: Mapped[str] = mapped_column(ForeignKey("editions.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str]
    passages: Mapped[int]


class Tombstone(Base):
    """A passage that left an edition while a segment still holds it."""

    __tablename__ = "tombstones"

    edition_id: Mapped[str] = mapped_column(ForeignKey("editions.id", ondelete="CASCADE"), primary_key=True)
    passage_id: Mapped[int] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()


class Document(Base):
    """A thing with a stable name in a kb. `parent_key` is the document inside which it was found: an archive, a message, a
    table whose rows are documents; `source_id` the source that keeps it, None for what people added; `link` where people open
    the original at its source; `described_by` the model that wrote its description, None: its own words."""

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
    #: Grows with every change of any document, whatever the clock says (see `records/sequence.py`).
    change: Mapped[int] = mapped_column(default=0, server_default="0")


class DocumentTag(Base):
    """A document's tags once more, a row each, for filters."""

    __tablename__ = "document_tags"
    __table_args__ = (Index("ix_document_tags_lookup", "kb_id", "tag", "value"),)

    document_key: Mapped[int] = mapped_column(ForeignKey("documents.key", ondelete="CASCADE"), primary_key=True)
    tag: Mapped[str] = mapped_column(primary_key=True)
    value: Mapped[str]
    kb_id: Mapped[str]
    team_id: Mapped[str] = of_team()


class Revision(Base):
    """One content version of a document. `reading` is the blob of its text and blocks, once it has been read; `report` what
    reading it gave; `columns` what the columns of its table mean, when somebody said so. `embedded` counts the passages whose
    vectors were not known. `source_changed_at` is when it changed at its source, `answerable_at` when its words were first
    searchable."""

    __tablename__ = "revisions"
    __table_args__ = (UniqueConstraint("document_key", "number"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    document_key: Mapped[int] = mapped_column(ForeignKey("documents.key", ondelete="CASCADE"), index=True)
    number: Mapped[int]
    sha256: Mapped[str] = mapped_column(index=True)
    size: Mapped[int]
    media_type: Mapped[str | None]
    reading: Mapped[str | None] = mapped_column(index=True)
    pages: Mapped[int | None]
    passages: Mapped[int | None]
    tokens: Mapped[int | None]
    language: Mapped[str | None]
    warnings: Mapped[list[Any]]
    report: Mapped[dict[str, Any] | None]
    columns: Mapped[dict[str, Any] | None]
    seconds: Mapped[dict[str, Any]]
    embedded: Mapped[int] = mapped_column(default=0, server_default="0")
    created_at: Mapped[datetime] = mapped_column(default=now)
    source_changed_at: Mapped[datetime | None]
    answerable_at: Mapped[datetime | None]
    indexed_at: Mapped[datetime | None]


class Source(Base):
    """What keeps documents flowing into a kb. `folder` is where its documents lie among the kb's; `credentials` and
    `signal_secret` are encrypted. `tag_rules` are pairs of a pattern and the tags it gives. `looked_at` is when the last listing
    that succeeded began: what changed before is known."""

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
    guard_least: Mapped[int] = mapped_column(default=10)
    paused: Mapped[bool] = mapped_column(default=False)
    signal_secret: Mapped[bytes]
    next_run_at: Mapped[datetime | None] = mapped_column(index=True)
    looked_at: Mapped[datetime | None]
    failing_since: Mapped[datetime | None]
    failures: Mapped[int] = mapped_column(default=0)
    error: Mapped[str | None]
    late_since: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now)
    version: Mapped[int] = mapped_column(default=1)


class SourceItem(Base):
    """An item that was taken from a source, with the mark it had then. One without a document and without an
    error was deleted here by a person, and stays out."""

    __tablename__ = "source_items"
    __table_args__ = (UniqueConstraint("source_id", "item_id"),)

    key: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = of_team()
    source_id: Mapped[str] = mapped_column(ForeignKey("sources.id", ondelete="CASCADE"))
    item_id: Mapped[str]
    document_key: Mapped[int | None] = mapped_column(ForeignKey("documents.key", ondelete="SET NULL"), index=True)
    mark: Mapped[str]
    same_as: Mapped[str] = mapped_column(default="")
    notes: Mapped[dict[str, Any] | None]
    error: Mapped[str | None]


class Sync(Base):
    """A run of a source. Counts are of items; `held_for` says why the guard stopped it."""

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
    held_for: Mapped[str | None]
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
    """What a sync did with one item. Unchanged ones are only counted, but for sites, whose pages are reported one by one."""

    __tablename__ = "sync_items"
    __table_args__ = (UniqueConstraint("sync_id", "item_id"),)

    key: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = of_team()
    sync_id: Mapped[str] = mapped_column(ForeignKey("syncs.id", ondelete="CASCADE"))
    item_id: Mapped[str]
    outcome: Mapped[Outcome] = mapped_column(Word(Outcome))
    reason: Mapped[str | None]
    document_key: Mapped[int | None]
    revision_id: Mapped[str | None]
    bytes: Mapped[int] = mapped_column(default=0)


class Notice(Base):
    """Something that members want to be told: a run that failed or is held, a source that is late, a budget that runs
    low. `kind` is the last part of the event's type; `kb_id` is None for what is of the whole team."""

    __tablename__ = "notices"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str | None] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    source_id: Mapped[str | None] = mapped_column(ForeignKey("sources.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str]
    message: Mapped[str]
    data: Mapped[dict[str, Any]]
    created_at: Mapped[datetime] = mapped_column(default=now, index=True)


class Receiver(Base):
    """An address that is sent notices of some kinds as signed events. `secret` is encrypted."""

    __tablename__ = "receivers"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    url: Mapped[str]
    secret: Mapped[bytes]
    kinds: Mapped[list[Any]]
    paused: Mapped[bool] = mapped_column(default=False)
    created_at: Mapped[datetime] = mapped_column(default=now)


class Delivery(Base):
    """A notice on its way to a receiver; the queue of what is to be sent."""

    __tablename__ = "deliveries"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    receiver_id: Mapped[str] = mapped_column(ForeignKey("receivers.id", ondelete="CASCADE"), index=True)
    notice_id: Mapped[str] = mapped_column(ForeignKey("notices.id", ondelete="CASCADE"), index=True)
    state: Mapped[JobState] = mapped_column(Word(JobState))
    attempts: Mapped[int] = mapped_column(default=0)
    error: Mapped[str | None]
    run_after: Mapped[datetime] = mapped_column(default=now)
    created_at: Mapped[datetime] = mapped_column(default=now)
    sent_at: Mapped[datetime | None]


class PassageRow(Base):
    """A passage of a revision in an edition. Ids are never used twice, since segments and tombstones name them."""

    __tablename__ = "passages"
    __table_args__ = ({"sqlite_autoincrement": True},)

    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = of_team()
    edition_id: Mapped[str] = mapped_column(ForeignKey("editions.id", ondelete="CASCADE"), index=True)
    document_key: Mapped[int] = mapped_column(ForeignKey("documents.key", ondelete="CASCADE"), index=True)
    revision_id: Mapped[str] = mapped_column(ForeignKey("revisions.id", ondelete="CASCADE"), index=True)
    ordinal: Mapped[int]
    start: Mapped[int]
    end: Mapped[int]
    text: Mapped[str]
    context: Mapped[str]
    tokens: Mapped[int]
    locator: Mapped[dict[str, Any]]
    parts: Mapped[list[Any]]
    embedded_text: Mapped[str]


class Job(Base):
    """A revision on its way into an edition. `edition_id` is None for the one that serves; only such a job moves its
    document's state."""

    __tablename__ = "jobs"
    __table_args__ = (
        Index("ix_jobs_waiting", "state", "stage", "run_after"),
        Index("ix_jobs_by_team", "state", "stage", "team_id"),
    )

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    document_key: Mapped[int] = mapped_column(ForeignKey("documents.key", ondelete="CASCADE"), index=True)
    revision_id: Mapped[str] = mapped_column(ForeignKey("revisions.id", ondelete="CASCADE"))
    edition_id: Mapped[str | None] = mapped_column(index=True)
    stage: Mapped[JobStage] = mapped_column(Word(JobStage))
    state: Mapped[JobState] = mapped_column(Word(JobState))
    attempts: Mapped[int] = mapped_column(default=0)
    done: Mapped[int] = mapped_column(default=0)
    total: Mapped[int] = mapped_column(default=0)
    error: Mapped[str | None]
    run_after: Mapped[datetime] = mapped_column(default=now)
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now)


class IdempotentReply(Base):
    """What a creating request answered, so that the same request sent again changes nothing."""

    __tablename__ = "idempotent_replies"

    caller: Mapped[str] = mapped_column(primary_key=True)
    route: Mapped[str] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(primary_key=True)
    body_hash: Mapped[str]
    status: Mapped[int]
    body: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(default=now, index=True)
