"""Reading and changing the records.

Sessions to read with, units of work to change with.

A unit of work is one write transaction. It takes the write lock in the thread that does the work,
commits once when its block ends, and then publishes what was changed to the subscribers, who wake
workers, notify watchers and refresh snapshots. Nobody calls those by hand.
"""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Callable, Collection, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from sqlalchemy import event, select
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import ORMExecuteState, Session, UOWTransaction, sessionmaker

from fontanel.errors import Busy
from fontanel.records.audit import Change, change_of, change_of_statement, current, write_changes
from fontanel.records.database import open_engine
from fontanel.records.tables import (
    ApprovedAnswer,
    AuditEntry,
    Backup,
    Base,
    Channel,
    ChannelMessage,
    Delivery,
    DeskLink,
    Document,
    Edition,
    Embedder,
    Erasure,
    GapQuestion,
    Job,
    Kb,
    Key,
    Member,
    Person,
    ProposalRun,
    ProposedDocument,
    Receiver,
    Segment,
    SignIn,
    Source,
    Sync,
    Team,
    TextModel,
    Tombstone,
    Transcriber,
    Trial,
)

#: Seconds that a change waits for the changes before it.
PATIENCE = 30.0
_COMMITTED = "committed"
#: A change of these may grant or revoke access.
_ACCESS = (DeskLink, Key, Member, Person, SignIn, Team)
#: A change of these may be work for background threads.
_WORK = (
    ApprovedAnswer,
    AuditEntry,
    Backup,
    Channel,
    ChannelMessage,
    Delivery,
    Edition,
    Embedder,
    Erasure,
    GapQuestion,
    Job,
    Kb,
    ProposalRun,
    Receiver,
    Source,
    Sync,
    TextModel,
    Transcriber,
    Trial,
)
#: A change of these affects searches in their edition.
_INDEX = (Segment, Tombstone)
#: A change of these is shown to those who watch their knowledge base.
_IN_KB = (ApprovedAnswer, Document, Edition, Job, ProposedDocument, Source, Sync)


@dataclass(slots=True)
class Committed:
    """What one unit of work changed."""

    kbs: set[str] = field(default_factory=set)
    """Knowledge bases in which something changed."""
    gap_kbs: set[str] = field(default_factory=set)
    """Knowledge bases of questions that joined a gap, or were asked without a good answer."""
    editions: set[str] = field(default_factory=set)
    """Editions whose passages or segments changed."""
    deleted_documents: dict[str, list[str]] = field(default_factory=dict)
    """Ids of deleted documents, by knowledge base."""
    deleted_editions: set[str] = field(default_factory=set)
    deleted_sources: set[str] = field(default_factory=set)
    deleted_teams: set[str] = field(default_factory=set)
    access: bool = False
    """Whether somebody may have gained or lost access."""
    work: set[type[Base]] = field(default_factory=set)
    """Changed tables that may be work for background threads."""
    changes: list[Change] = field(default_factory=list)
    """What the audit log records, if somebody acts."""


Subscriber = Callable[[Committed], None]
Listener = Callable[[Session, AuditEntry], None]


class Records:
    """The database of one data directory.

    Raises:
        sqlalchemy.exc.DatabaseError: the file is not a database, or is damaged.
    """

    def __init__(self, path: Path) -> None:
        self.engine = open_engine(path)
        self.sessions: sessionmaker[Session] = sessionmaker(self.engine, expire_on_commit=False)
        self._writer = threading.Lock()
        #: Units of work, by edition, whose changes subscribers may not have seen yet.
        self._publishing: Counter[str] = Counter()
        self._publishing_lock = threading.Lock()
        self._subscribers: list[Subscriber] = []
        #: Called with each new entry of the audit log, within its transaction.
        self.on_entry: Listener | None = None
        event.listen(self.sessions, "before_flush", _collect)
        event.listen(self.sessions, "do_orm_execute", _collect_statement)

    def reading(self) -> Session:
        """Return a session to read with; it is closed at the end of its `with` block."""
        return self.sessions()

    @contextmanager
    def writing(self) -> Iterator[Session]:
        """Do a unit of work: commit at the end of the block, then publish what changed.

        An exception rolls everything back. Units of work must not be nested.

        Raises:
            Busy: the changes before this one took longer than `PATIENCE`.
        """
        if not self._writer.acquire(timeout=PATIENCE):
            raise Busy("The service is busy with other changes. Try again in a moment.")
        committed = Committed()
        with ExitStack() as publishing:
            try:
                with self.sessions() as session:
                    session.info[_COMMITTED] = committed
                    _take_write_lock(session)
                    yield session
                    session.flush()
                    self._audit(session, committed)
                    publishing.enter_context(self._published(frozenset(committed.editions)))
                    session.commit()
            finally:
                self._writer.release()
            for subscriber in self._subscribers:
                subscriber(committed)

    def _audit(self, session: Session, committed: Committed) -> None:
        """Record what somebody changed; what the service does on its own is not recorded."""
        acting = current()
        if acting is not None and committed.changes:
            entry = write_changes(session, acting, committed.changes)
            if self.on_entry is not None:
                self.on_entry(session, entry)
                session.flush()

    @contextmanager
    def auditing(self) -> Iterator[Session]:
        """Do a unit of work that adds entries to the audit log, and nothing else."""
        with self.writing() as session:
            yield session

    @contextmanager
    def _published(self, editions: Collection[str]) -> Iterator[None]:
        """Count editions as being published from before the commit until subscribers know."""
        with self._publishing_lock:
            self._publishing.update(editions)
        try:
            yield
        finally:
            with self._publishing_lock:
                self._publishing.subtract(editions)
                self._publishing = +self._publishing

    def publishes(self, edition_id: str) -> bool:
        """Whether an edition's passages may have changed without subscribers knowing yet."""
        with self._publishing_lock:
            return self._publishing[edition_id] > 0

    def subscribe(self, subscriber: Subscriber) -> None:
        """Call `subscriber` after each unit of work, in the thread that did it."""
        self._subscribers.append(subscriber)

    def close(self) -> None:
        """Close all connections."""
        self.engine.dispose()


def mark_edition_changed(session: Session, edition_id: str) -> None:
    """Note that a statement changes what searches of an edition see."""
    _committed(session).editions.add(edition_id)


def _committed(session: Session) -> Committed:
    committed = session.info.get(_COMMITTED)
    if not isinstance(committed, Committed):
        raise RuntimeError("The records are changed outside of a unit of work.")
    return committed


def _take_write_lock(session: Session) -> None:
    try:
        session.connection(execution_options={"writes": True})
    except OperationalError as error:
        if "locked" not in str(error.orig):
            raise
        raise Busy("Another process is changing the records. Try again in a moment.") from error


def _collect(session: Session, context: UOWTransaction, instances: Any) -> None:
    """Note the objects that a flush is about to write."""
    committed = _committed(session)
    changed = [item for item in session.dirty if session.is_modified(item)]
    if current() is not None:
        _collect_changes(session, committed, changed)
    for item in (*session.new, *changed, *session.deleted):
        committed.access = committed.access or isinstance(item, _ACCESS)
        if isinstance(item, _WORK):
            committed.work.add(type(item))
        if isinstance(item, _IN_KB):
            committed.kbs.add(item.kb_id)
        elif isinstance(item, Kb):
            committed.kbs.add(item.id)
            committed.editions.add(item.edition_id)
        elif isinstance(item, _INDEX):
            committed.editions.add(item.edition_id)
        elif isinstance(item, GapQuestion):
            committed.gap_kbs |= set(item.kb_ids)
    for item in session.deleted:
        _collect_deleted(session, committed, item)


def _collect_changes(session: Session, committed: Committed, changed: list[Any]) -> None:
    """Note what the audit log records of a flush."""
    found = [change_of(item, "created") for item in session.new]
    found += [change_of(item, "changed") for item in changed]
    found += [change_of(item, "deleted") for item in session.deleted]
    known = {(one.kind, one.id): one for one in committed.changes}
    for change in found:
        before = None if change is None else known.get((change.kind, change.id))
        if change is None or (before is not None and change.change == "changed"):
            if before is not None and change is not None:
                before.fields |= change.fields if before.change == "changed" else {}
            continue
        committed.changes.append(change)


def _collect_deleted(session: Session, committed: Committed, item: Base) -> None:
    if isinstance(item, Document):
        committed.deleted_documents.setdefault(item.kb_id, []).append(item.id)
    elif isinstance(item, Source):
        committed.deleted_sources.add(item.id)
    elif isinstance(item, Edition):
        committed.deleted_editions.add(item.id)
    elif isinstance(item, Kb | Team):
        # Their editions go by the foreign keys, without being loaded.
        column = Edition.kb_id if isinstance(item, Kb) else Edition.team_id
        committed.deleted_editions |= set(
            session.scalars(select(Edition.id).where(column == item.id))
        )
        if isinstance(item, Team):
            committed.deleted_teams.add(item.id)


def _collect_statement(state: ORMExecuteState) -> None:
    """Collect what a statement changes without loading objects."""
    mapper = state.bind_mapper
    if mapper is None or not (state.is_insert or state.is_update or state.is_delete):
        return
    committed = _committed(state.session)
    committed.access = committed.access or issubclass(mapper.class_, _ACCESS)
    if issubclass(mapper.class_, _WORK):
        committed.work.add(mapper.class_)
    if current() is not None:
        what: Any = "created" if state.is_insert else "changed" if state.is_update else "deleted"
        change = change_of_statement(mapper.class_, what)
        if change is not None and change not in committed.changes:
            committed.changes.append(change)
