"""The runtime: everything of one data directory, and its background threads."""

from __future__ import annotations

import fcntl
import os
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import ParamSpec, TextIO

import structlog
from sqlalchemy import func, select

from fontanel.engine.answering.asking import Asking
from fontanel.engine.auditing.forwarding import Forwarding
from fontanel.engine.auditing.machine import log_what_was_left
from fontanel.engine.auditing.noting import AuditNotes
from fontanel.engine.auditing.receivers import emit_entry
from fontanel.engine.backup.running import Backups
from fontanel.engine.channels.answering import MessageAnswerer
from fontanel.engine.channels.connections import Connections
from fontanel.engine.channels.inbox import Inbox
from fontanel.engine.channels.sending import MessageSender
from fontanel.engine.curation.flagging import Flagging
from fontanel.engine.curation.followed import FollowedAnswers
from fontanel.engine.curation.proposing.by_model import ModelProposer
from fontanel.engine.curation.proposing.by_rules import RuleProposer
from fontanel.engine.curation.serving import ApprovedStore
from fontanel.engine.editions.maintenance import EditionMaintenance
from fontanel.engine.editions.store import Editions
from fontanel.engine.embedding.directories import DirectoryWorkers
from fontanel.engine.embedding.embedders import Embedders
from fontanel.engine.embedding.remote import RemoteEmbedding
from fontanel.engine.erasing.leftovers import Leftovers
from fontanel.engine.gaps.closing import GapCloser
from fontanel.engine.gaps.groups import GapGroups
from fontanel.engine.ingest.describing import Describing
from fontanel.engine.ingest.passages import vector_keys
from fontanel.engine.ingest.pipeline import Ingest
from fontanel.engine.ingest.queue import recover
from fontanel.engine.notices.deliveries import Deliveries
from fontanel.engine.pictures.viewing import Viewing
from fontanel.engine.runtime.housekeeping import Housekeeping
from fontanel.engine.runtime.ingest_workers import ingest_workers
from fontanel.engine.runtime.threads import WorkerThreads
from fontanel.engine.runtime.watchers import Watchers
from fontanel.engine.sign_on.people import parse_rules
from fontanel.engine.sign_on.provider import Provider
from fontanel.engine.sync.runner import SyncRunner
from fontanel.engine.sync.schedule import Schedule
from fontanel.engine.transcription.transcribing import Transcribing
from fontanel.engine.trials.running import TrialRunner
from fontanel.engine.trials.starting import TrialTimetable
from fontanel.engine.workers.processes import Worker
from fontanel.errors import DataInUse
from fontanel.llm import Caller, EmbeddingClient, ModelClient, TranscriptionClient
from fontanel.records.blobs import BlobStore
from fontanel.records.ids import hash_password, new_id, new_password
from fontanel.records.sequence import number_changes
from fontanel.records.tables import (
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
    Person,
    ProposalRun,
    Receiver,
    Source,
    Sync,
    TextModel,
    Transcriber,
    Trial,
)
from fontanel.records.unit_of_work import Committed, Records
from fontanel.records.vault import Vault
from fontanel.records.vector_cache import VectorCache
from fontanel.settings import Settings

log = structlog.get_logger()

P = ParamSpec("P")

#: Registered embedders that passages are embedded with at the same time.
_REMOTE_THREADS = 4
#: Recordings that are transcribed at the same time.
_TRANSCRIBING_THREADS = 2
#: Messages of channels that are answered at the same time: more would wait for the processors.
_MESSAGE_THREADS = 4
#: Seconds after which threads look for work that does not become due at an exact time.
_NAP = 3.0
#: Seconds after which threads look for work that never becomes due by the clock.
_LONG_NAP = 10.0
#: Seconds between two rounds of housekeeping.
_HOUSEKEEPING = 5.0


class Runtime:
    """Opens a data directory exclusively; `start` begins the work, `stop` ends it.

    Raises:
        DataInUse: another process uses the directory.
        sqlalchemy.exc.DatabaseError: the database is damaged.
    """

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        data = settings.data
        data.mkdir(parents=True, exist_ok=True)
        os.chmod(data, 0o700)
        self._lock_file = lock_directory(data)
        self._open_stores(data)
        self._stopping = threading.Event()
        self._stopped = False
        self._threads = WorkerThreads(self._stopping)
        self._background = ThreadPoolExecutor(1, thread_name_prefix="background")
        self.watchers = Watchers()
        self.sign_on_rules = parse_rules(settings.oidc_rules)
        self.provider = Provider(settings) if settings.oidc_issuer else None
        self.audit_notes = AuditNotes(self.records, self.run_later)
        self.records.on_entry = emit_entry
        self._caller = Caller(self._stopping)
        self.embeddings = EmbeddingClient(self._caller)
        self.transcription = TranscriptionClient(self._caller)
        self.local_models = Embedders(
            settings.embedder_directory,
            settings.evidence_directory,
            records=self.records,
            vault=self.vault,
            client=self.embeddings,
            directories=DirectoryWorkers(settings.embed_threads),
            later=self.run_later,
        )
        self.models = ModelClient()
        self._start_workers()
        self._build_engine()
        self.records.subscribe(self._after_commit)
        self.operator_password: str | None = None

    def _open_stores(self, data: Path) -> None:
        self.records = Records(data / "fontanel.db")
        number_changes(self.records)
        self.blobs = BlobStore(data / "blobs")
        self.vectors = VectorCache(data / "vectors")
        if self.vectors.shared:
            log.info("vectors are being divided among the teams")
            self.vectors.split_by_team(vector_keys(self.records))
        self.editions = Editions(data / "editions", self.records)
        self.vault = Vault(data / "secret.key")

    def _start_workers(self) -> None:
        settings, embedder = self.settings, self.settings.embedder_directory
        self._readers = [
            Worker("read", embedder, settings.read_memory_mb)
            for _ in range(settings.read_processes)
        ]
        self._embedder = Worker("embed", embedder, settings.embed_threads)
        #: Apart from those of the queue: a person waits for what this one reads or draws.
        self.preview_worker = Worker("read", embedder, settings.read_memory_mb)
        #: Verifies packs that are imported.
        self.pack_worker = Worker("read", embedder, settings.read_memory_mb)
        #: Cuts recordings for transcribers, and takes pictures out of documents.
        self._cutter = Worker("read", embedder, settings.read_memory_mb)
        self._workers = [
            *self._readers,
            self._cutter,
            self._embedder,
            self.preview_worker,
            self.pack_worker,
        ]
        self.ingest_workers = ingest_workers(
            settings, self.local_models, self._readers, self._embedder
        )

    def _build_engine(self) -> None:
        settings = self.settings
        self.ingest = Ingest(
            records=self.records,
            blobs=self.blobs,
            vectors=self.vectors,
            editions=self.editions,
            read_seconds=settings.read_seconds,
            embedder=self.local_models.name,
            readers=len(self.ingest_workers.readers),
        )
        self.remote_embedding = RemoteEmbedding(
            self.records, self.local_models, self.embeddings, self.ingest.remote_stage
        )
        self.transcribing = Transcribing(
            records=self.records,
            blobs=self.blobs,
            client=self.transcription,
            vault=self.vault,
            cutter=self._cutter,
        )
        self.syncing = SyncRunner(
            records=self.records,
            blobs=self.blobs,
            vault=self.vault,
            settings=settings,
            stopping=self._stopping.is_set,
        )
        self.schedule = Schedule(self.records, settings)
        self.flagging = Flagging(self.records, self.blobs)
        self.rule_proposer = RuleProposer(self.records, self.editions, self.local_models)
        self.model_proposer = ModelProposer(
            records=self.records,
            editions=self.editions,
            local_models=self.local_models,
            models=self.models,
            vault=self.vault,
            stopping=self._stopping,
        )
        self.approved = ApprovedStore(self.records, self.vectors, self.local_models)
        self.asking = Asking(
            records=self.records,
            editions=self.editions,
            local_models=self.local_models,
            models=self.models,
            vault=self.vault,
            approved=self.approved,
        )
        self.trials = TrialRunner(self.records, self.asking)
        self.timetable = TrialTimetable(self.records)
        self.gap_groups = GapGroups(self.records, self.local_models)
        self.gap_closer = GapCloser(self.records, self.asking)
        self.describing = Describing(
            records=self.records,
            blobs=self.blobs,
            vectors=self.vectors,
            editions=self.editions,
            models=self.models,
            vault=self.vault,
            stopping=self._stopping,
        )
        self.viewing = Viewing(
            records=self.records,
            blobs=self.blobs,
            models=self.models,
            vault=self.vault,
            worker=self._cutter,
            stopping=self._stopping,
        )
        self.deliveries = Deliveries(self.records, self.vault, settings, self._stopping.is_set)
        self.followed = FollowedAnswers(self.records, self.asking, settings)
        self.connections = Connections(self.records, self.vault, settings, self._stopping.is_set)
        self.inbox = Inbox(self.records, settings.origin)
        self.answerer = MessageAnswerer(
            self.records, self.asking, self.connections, settings.origin
        )
        self.sender = MessageSender(
            records=self.records,
            vault=self.vault,
            settings=settings,
            connections=self.connections,
            stopping=self._stopping.is_set,
        )
        self.forwarding = Forwarding(self.records, settings.audit_syslog, self._stopping)
        self.backups = Backups(
            self.records, settings, (self.blobs, self.editions), self._stopping.is_set
        )
        self.leftovers = Leftovers(self.records, self.blobs, self.vectors, self.editions)
        self.housekeeping = Housekeeping(
            records=self.records,
            blobs=self.blobs,
            vault=self.vault,
            models=self.models,
            deliveries=self.deliveries,
            removed_days=settings.removed_days,
            audit_notes=self.audit_notes,
            audit_days=settings.audit_days,
        )
        self._maintenance = EditionMaintenance(self.records, self.editions, self.local_models.name)

    def start(self) -> None:
        """Recover what the last run left unfinished, then start the threads.

        A service that only answers questions leaves everything as it is.
        """
        if self.settings.read_only:
            log.info("only answers questions: nothing is changed, indexed, synced or sent")
            return
        self.operator_password = self._create_operator()
        log_what_was_left(self.records, self.settings.data)
        for what, count in (
            ("jobs", recover(self.records)),
            ("sync runs", self.syncing.recover()),
            ("answers", self.asking.recover()),
            ("backups", self.backups.recover()),
        ):
            if count:
                log.info("recovered after an interruption", what=what, count=count)
        self._maintenance.check_all()
        self._start_threads()

    def _start_threads(self) -> None:
        start, start_several = self._threads.start, self._threads.start_several
        self.ingest_workers.start()
        reading = [partial(self.ingest.read_round, one) for one in self.ingest_workers.readers]
        start_several("read", reading, (Job,))
        if self.local_models.name is not None:
            embed = partial(
                self.ingest.embed_round, self.ingest_workers.embedder, self.local_models.name
            )
            start("embed", embed, (Job,))
        remote = [self.remote_embedding.embed_round] * _REMOTE_THREADS
        start_several("embed-remotely", remote, (Embedder, Job))
        transcribing = [self.transcribing.transcribe_next] * _TRANSCRIBING_THREADS
        start_several("transcribe", transcribing, (Kb, Transcriber), nap=_NAP)
        start("flag-approved", self.flagging.flag_next)
        start("propose-by-rules", self.rule_proposer.propose_next, (Kb, ProposalRun), nap=_NAP)
        start("propose-by-model", self.model_proposer.propose_next, (Kb, ProposalRun), nap=_NAP)
        start("embed-approved", self.approved.embed_next, (ApprovedAnswer,), nap=_NAP)
        start("merge", self.editions.merge_round)
        start("verify", self._maintenance.verify_next)
        start("promote", self._maintenance.promote, (Edition,), nap=_NAP)
        for number in range(self.settings.sync_threads):
            start(f"sync-{number}", self.syncing.run_next, (Source, Sync), nap=_LONG_NAP)
        start("schedule", self.schedule.start_due, (Source,))
        start("trials", self.trials.run_next, (Trial,), nap=_NAP)
        start("group-gaps", self.gap_groups.group_next, (GapQuestion,), nap=_NAP)
        start("close-gaps", self.gap_closer.close_next)
        start("check-followed", self.followed.check_next, nap=_NAP)
        start("timetable", self.timetable.start_due, nap=_NAP)
        start("deliver", self.deliveries.deliver_due, (Delivery, Receiver))
        start("channels", self.connections.keep, (Channel,))
        answering = [self.answerer.answer_next] * _MESSAGE_THREADS
        start_several("answer-messages", answering, (ChannelMessage,))
        start("send-replies", self.sender.send_due, (ChannelMessage,))
        start("backup", self.backups.run_next, (Backup,), nap=_NAP)
        start("forward-audit", self.forwarding.forward_next, (AuditEntry,), nap=_NAP)
        start("describe", self.describing.describe_next, (Kb, TextModel), nap=_NAP)
        start("describe-pictures", self.viewing.view_next, (Kb, TextModel), nap=_NAP)
        start("erase", self.leftovers.clear_next, (Erasure,), nap=_NAP)
        start("housekeeping", self._keep_house)

    def run_later(self, function: Callable[P, None], *args: P.args, **kwargs: P.kwargs) -> None:
        """Run a small change in the background, without anybody waiting for it."""
        with suppress(RuntimeError):  # the service is stopping
            self._background.submit(partial(_logged, partial(function, *args, **kwargs)))

    @property
    def stopping(self) -> bool:
        """Whether the service is shutting down."""
        return self._stopping.is_set()

    def begin_stop(self) -> None:
        """End open streams and answers, so that the server can finish."""
        self._stopping.set()
        self.watchers.wake_all()
        self.trials.stop()
        self.gap_closer.stop()
        self.answerer.stop()
        self.followed.stop()
        self.asking.stop()

    def stop(self) -> None:
        """Stop all work and close the data directory. Calling it again does nothing."""
        if self._stopped:
            return
        self._stopped = True
        self.begin_stop()
        self._background.shutdown(cancel_futures=True)
        self.schedule.stop()
        self.deliveries.stop()
        self.sender.stop()
        self.connections.stop()
        self.models.stop()
        self._caller.close()
        self.ingest_workers.stop()
        for worker in self._workers:
            worker.stop()
        self.local_models.directories.stop()
        self._threads.join()
        self.vectors.close()
        self.records.close()
        self._lock_file.close()

    def _after_commit(self, committed: Committed) -> None:
        """Act on the changes of a unit of work.

        `Editions` has refreshed its snapshots already.
        """
        for source_id in committed.deleted_sources:
            self.syncing.cancel(source_id)
        for team_id in committed.deleted_teams:
            self.vectors.forget_team(team_id)
        self.watchers.notify(committed)
        self.flagging.note(committed)
        self.gap_closer.note(committed)
        if committed.work:
            self._threads.wake(committed.work)

    def _keep_house(self) -> None:
        for worker in self._workers:
            worker.end_if_idle(self.settings.idle_seconds)
        self.local_models.directories.end_idle(self.settings.idle_seconds)
        self.housekeeping.run()
        self._stopping.wait(_HOUSEKEEPING)

    def _create_operator(self) -> str | None:
        """Create an operator on the first start; return the password, to be printed once."""
        with self.records.writing() as session:
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
            return password


def _logged(function: Callable[[], None]) -> None:
    try:
        function()
    except Exception:
        log.exception("background change failed")


def lock_directory(data: Path) -> TextIO:
    """Lock a data directory until the returned file is closed.

    Raises:
        DataInUse: another process uses it.
    """
    file = (data / "lock").open("w")
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError as error:
        file.close()
        raise DataInUse(
            f"Another process uses {data}. Stop it, or set FONTANEL_DATA to another directory."
        ) from error
    return file
