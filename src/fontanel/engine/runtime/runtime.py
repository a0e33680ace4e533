"""The workshop: everything of one data directory, opened together, with the threads that keep it going."""

from __future__ import annotations

import fcntl
import os
import threading
import time
from collections.abc import Callable
from datetime import timedelta
from functools import partial
from pathlib import Path
from typing import TextIO

import structlog
from sqlalchemy import delete, func, select

from fontanel.core.index.files import SegmentDamaged
from fontanel.engine.answering.asking import Asking
from fontanel.engine.answering.models import look_after_models
from fontanel.engine.answering.retrieval import Embedders
from fontanel.engine.documents.contained import take_in
from fontanel.engine.editions.lifecycle import renew_outdated, take_over
from fontanel.engine.editions.store import Editions
from fontanel.engine.ingest.describing import Describing
from fontanel.engine.ingest.passages import vector_keys
from fontanel.engine.ingest.pipeline import Ingest
from fontanel.engine.ingest.queue import recover
from fontanel.engine.ingest.reindex import reindex_all
from fontanel.engine.notices.deliveries import Deliveries
from fontanel.engine.runtime.watchers import Changes
from fontanel.engine.sync.freshness import watch_freshness
from fontanel.engine.sync.runner import Syncing
from fontanel.engine.sync.schedule import Schedule
from fontanel.engine.workers.processes import Worker
from fontanel.llm import ModelLine
from fontanel.records.blobs import BlobStore
from fontanel.records.database import open_database, writing
from fontanel.records.ids import hash_password, new_id, new_password
from fontanel.records.sequence import number_changes
from fontanel.records.tables import (
    Document,
    DocumentState,
    Edition,
    IdempotentReply,
    Kb,
    Person,
    Revision,
    SignIn,
    now,
)
from fontanel.records.vault import Vault
from fontanel.records.vector_cache import VectorCache
from fontanel.settings import Settings

log = structlog.get_logger()

#: Seconds that a blob is left alone, since the record that names it may be about to be written.
_BLOB_GRACE = 3600.0
#: Seconds between two looks at whether models can be reached.
_LOOK_AT_MODELS = 60.0


class DataInUse(Exception):
    """Another process serves this data directory."""


class Workshop:
    """Opens a data directory for this process alone. `start` begins the work, `stop` ends it; both return soon."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        data = settings.data
        data.mkdir(parents=True, exist_ok=True)
        os.chmod(data, 0o700)
        self._lock_file = _lock(data)
        self.engine, self.sessions = open_database(data / "fontanel.db")
        self.blobs = BlobStore(data / "blobs")
        self.vectors = VectorCache(data / "vectors")
        if self.vectors.shared:
            log.info("vectors are being divided among the teams")
            self.vectors.split_by_team(vector_keys(self.sessions))
        self.editions = Editions(data / "editions", self.sessions)
        self.changes = Changes()
        self.changes.follow(self.sessions)
        number_changes(self.sessions)
        self.embedders = Embedders(settings.embedder_directory)
        self.ingest = Ingest(
            self.sessions,
            self.blobs,
            self.vectors,
            self.editions,
            self.changes,
            settings.read_seconds,
            take_in,
            self.embedders.name,
            settings.read_processes,
        )
        self.vault = Vault(data / "secret.key")
        self._stopping = threading.Event()
        self.syncing = Syncing(
            self.sessions,
            self.blobs,
            self.vault,
            self.editions,
            self.changes,
            settings,
            self.wake,
            self._stopping.is_set,
        )
        self.schedule = Schedule(self.sessions, settings, self.wake)
        self.models = ModelLine()
        self.asking = Asking(self.sessions, self.editions, self.embedders, self.models, self.vault)
        self.describing = Describing(
            self.sessions,
            self.blobs,
            self.vectors,
            self.editions,
            self.changes,
            self.models,
            self.vault,
            self._stopping,
        )
        self.deliveries = Deliveries(
            self.sessions, self.vault, settings, self._stopping.is_set, self.wake
        )
        self._stopped = False
        self._wake = threading.Condition()
        self._generation = 0
        self._threads: list[threading.Thread] = []
        directory = settings.embedder_directory
        self._readers = [
            Worker("read", directory, settings.read_memory_mb)
            for _ in range(settings.read_processes)
        ]
        self._embedder = Worker("embed", directory, settings.embed_threads)
        # Beside those of the queue: a person waits for what this one reads or draws.
        self.looker = Worker("read", directory, settings.read_memory_mb)
        #: Checks packs that are imported.
        self.unpacker = Worker("read", directory, settings.read_memory_mb)
        self.operator_password: str | None = None

    def start(self) -> None:
        """Recover what the last run left, then start the threads."""
        self.operator_password = self._create_operator()
        recovered = recover(self.sessions)
        if recovered:
            log.info("jobs recovered", jobs=recovered)
        if broken_off := self.syncing.recover():
            log.info("syncs recovered", syncs=broken_off)
        if broken_off := self.asking.recover():
            log.info("answers broken off", turns=broken_off)
        self.editions.sweep(self._rebuild)
        self._check_editions()
        for number, worker in enumerate(self._readers):
            self._thread(f"read-{number}", partial(self.ingest.read_round, worker))
        self._thread("merge", self.editions.merge_round)
        self._thread("verify", partial(self.editions.verify_round, self._rebuild))
        for number in range(self.settings.sync_threads):
            self._thread(f"sync-{number}", self.syncing.round)
        self._thread("schedule", self.schedule.round)
        self._thread("deliver", self.deliveries.round)
        self._thread("describe", self.describing.round)
        self._thread("take-over", self.take_over)
        name = self.embedders.name
        if name is not None:
            self._thread("embed", partial(self.ingest.embed_round, self._embedder, name))
        thread = threading.Thread(target=self._keep_house, name="housekeeping", daemon=True)
        thread.start()
        self._threads.append(thread)

    @property
    def stopping(self) -> bool:
        return self._stopping.is_set()

    def begin_stop(self) -> None:
        """Let go of everyone who listens for changes, so that a server can finish its open responses."""
        self._stopping.set()
        self.changes.tell_all()

    def wake(self) -> None:
        """Tell the threads that there may be work."""
        with self._wake:
            self._generation += 1
            self._wake.notify_all()

    def stop(self) -> None:
        if self._stopped:
            return
        self._stopped = True
        self._stopping.set()
        self.schedule.stop()
        self.deliveries.stop()
        self.wake()
        self.changes.tell_all()
        self.models.stop()
        for worker in [*self._readers, self._embedder, self.looker, self.unpacker]:
            worker.stop()
        for thread in self._threads:
            thread.join(timeout=10)
        self.vectors.close()
        self.engine.dispose()
        self._lock_file.close()

    def _thread(self, name: str, step: Callable[[], bool | None]) -> None:
        def run() -> None:
            while not self._stopping.is_set():
                with self._wake:
                    seen = self._generation
                try:
                    busy = step()
                except Exception:
                    if self._stopping.is_set():
                        return
                    log.exception("work step failed", thread=name)
                    busy = False
                if busy:
                    self.wake()
                    continue
                with self._wake:
                    if self._generation == seen and not self._stopping.is_set():
                        # Jobs that wait for a pause to pass come up by themselves.
                        self._wake.wait(timeout=1.0)

        thread = threading.Thread(target=run, name=name, daemon=True)
        thread.start()
        self._threads.append(thread)

    def _keep_house(self) -> None:
        swept = looked = 0.0
        while not self._stopping.is_set():
            try:
                for worker in [*self._readers, self._embedder, self.looker, self.unpacker]:
                    worker.end_if_idle(self.settings.idle_seconds)
                self.remove_expired()
                self.remove_gone()
                watch_freshness(self.sessions)
                if time.monotonic() - looked > _LOOK_AT_MODELS or not looked:
                    looked = time.monotonic()
                    look_after_models(self.sessions, self.models, self.vault)
                if time.monotonic() - swept > _BLOB_GRACE or not swept:
                    swept = time.monotonic()
                    self.sweep_blobs()
                    self.forget_old()
                    self.deliveries.forget_old()
                    self.asking.forget_old()
            except Exception:
                log.exception("housekeeping failed")
            self._stopping.wait(5.0)

    def remove_expired(self) -> None:
        """Remove throw-away knowledge bases whose time has come."""
        with self.sessions() as session:
            due = select(Kb.id).where(Kb.expires_at <= now())
            if session.scalar(due.limit(1)) is None:
                return
        with writing(self.sessions) as session:
            joined = (
                select(Kb.id, Edition.id)
                .join(Edition, Edition.kb_id == Kb.id)
                .where(Kb.expires_at <= now())
            )
            expired = session.execute(joined).tuples().all()
            session.execute(delete(Kb).where(Kb.id.in_([kb_id for kb_id, _ in expired])))
            session.commit()
        for kb_id, edition_id in expired:
            self.editions.forget(edition_id)
            self.changes.tell(kb_id)
            log.info("throw-away knowledge base removed", kb=kb_id)

    def forget_old(self) -> None:
        """Remove sign-ins and kept replies whose time has come."""
        with writing(self.sessions) as session:
            session.execute(delete(SignIn).where(SignIn.expires_at <= now()))
            session.execute(
                delete(IdempotentReply).where(
                    IdempotentReply.created_at <= now() - timedelta(days=1)
                )
            )
            session.commit()

    def remove_gone(self) -> None:
        """Delete documents that left their source long ago."""
        long_ago = now() - timedelta(days=self.settings.removed_days)
        # Most documents are old, few were removed: that all knowledge bases are named lets the index of states find these.
        removed = func.unlikely(Document.state == DocumentState.REMOVED)
        due = select(Document).where(
            Document.kb_id.in_(select(Kb.id)), removed, Document.changed_at <= long_ago
        )
        with self.sessions() as session:
            if session.scalar(due.limit(1)) is None:
                return
        with writing(self.sessions) as session:
            for document in session.scalars(due.limit(500)).all():
                session.delete(document)
            session.commit()

    def sweep_blobs(self) -> None:
        """Remove blobs that no revision names any more."""
        with self.sessions() as session:
            kept = set(session.scalars(select(Revision.sha256))) | set(
                session.scalars(select(Revision.reading))
            )
        gone = self.blobs.sweep({sha for sha in kept if sha}, older_than=_BLOB_GRACE)
        if gone:
            log.info("blobs removed", blobs=gone)

    def _create_operator(self) -> str | None:
        """On the first start: an operator with a generated password, which is returned to be printed once."""
        with writing(self.sessions) as session:
            if session.scalar(select(func.count()).select_from(Person)):
                return None
            password = new_password()
            session.add(
                Person(
                    id=new_id("person"),
                    email="operator@localhost",
                    name="Operator",
                    operator=True,
                    password_hash=hash_password(password),
                )
            )
            session.commit()
            return password

    def _check_editions(self) -> None:
        """Open every edition; one whose files are damaged is built again from blobs and cached vectors. Beside one that was made
        with another embedder or analyser than there is now, its successor is built."""
        with writing(self.sessions) as session:
            for edition in renew_outdated(session, self.embedders.name):
                log.warning(
                    "edition is outdated",
                    kb=edition.kb_id,
                    successor=edition.id,
                    embedder=edition.embedder,
                )
            session.commit()
        with self.sessions() as session:
            known = session.scalars(select(Edition.id)).all()
        for edition_id in known:
            try:
                self.editions.refresh(edition_id)
            except SegmentDamaged as error:
                log.warning("edition damaged", edition=edition_id, error=str(error))
                self._rebuild(edition_id)

    def take_over(self) -> None:
        """Let editions serve that were built to take over, and remove those they replace."""
        with self.sessions() as session:
            if (
                session.scalar(select(Edition.id).where(Edition.takes_over.is_(True)).limit(1))
                is None
            ):
                return
        with writing(self.sessions) as session:
            done = take_over(session)
            session.commit()
        for kb_id, edition_id, gone in done:
            self.editions.refresh(edition_id)
            self.editions.forget(gone)
            self.changes.tell(kb_id)
            log.info("edition took over", kb=kb_id, edition=edition_id, instead_of=gone)

    def _rebuild(self, edition_id: str) -> None:
        with writing(self.sessions) as session:
            count = reindex_all(session, edition_id)
            session.commit()
        log.warning("edition is being rebuilt", edition=edition_id, documents=count)


def _lock(data: Path) -> TextIO:
    file = (data / "lock").open("w")
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError as error:
        file.close()
        raise DataInUse(
            f"Another process serves {data}. Stop it first, or set FONTANEL_DATA to another directory."
        ) from error
    return file
