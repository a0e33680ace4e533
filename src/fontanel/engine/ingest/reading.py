"""The first stage of ingest: read and split a revision, for keyword search."""

from __future__ import annotations

import threading
import time
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import structlog
from sqlalchemy.orm import Session

from fontanel import tracing
from fontanel.core.index import WordsEntry, WordsSegment
from fontanel.core.passages.fields import embedded_text, words_entry
from fontanel.core.reading.data.row_documents import Columns
from fontanel.core.reading.detect import RECORDINGS
from fontanel.core.reading.spoken.cues import Cue
from fontanel.core.text.analysis import analyser_of
from fontanel.engine.documents import states
from fontanel.engine.documents.contained import StoredFile, add_contained, add_many_contained
from fontanel.engine.documents.readings import store_reading
from fontanel.engine.documents.validity import record_statements
from fontanel.engine.editions.store import Editions
from fontanel.engine.embedding.registered import find_embedder
from fontanel.engine.ingest.failures import InterruptedJobs, attempt_failed, job_failed
from fontanel.engine.ingest.passages import (
    insert_passages,
    passage_row,
    retire_passages,
    split_settings,
)
from fontanel.engine.ingest.progress import ProgressReporter
from fontanel.engine.ingest.queue import claim, edition_of_job, loaded, put_back, waiting_teams
from fontanel.engine.ingest.repeated import RepeatedBlocks, record_edges
from fontanel.engine.pictures.found import record_pictures, texts_of, waiting_pictures
from fontanel.engine.quotas.quotas import check_passages
from fontanel.engine.runtime.fault_points import fault
from fontanel.engine.transcription.transcripts import await_transcript, find_transcript
from fontanel.engine.workers.framing import Failed
from fontanel.engine.workers.messages import (
    DocumentRead,
    PagesRead,
    PicturesOnly,
    ReadDocument,
    Splitting,
    TranscriptNeeded,
)
from fontanel.engine.workers.processes import DocumentReader, WorkerDied, WorkerOverran
from fontanel.errors import QuotaReached
from fontanel.facts import DocumentState
from fontanel.records.blobs import BlobStore
from fontanel.records.tables import (
    Description,
    Document,
    Edition,
    Job,
    JobStage,
    JobState,
    Kb,
    Revision,
    now,
)
from fontanel.records.unit_of_work import Records

log = structlog.get_logger()

#: Revisions claimed together, and the seconds after which those that were read are committed.
_READ_AT_ONCE = 16
_MAX_WAIT = 0.4
#: Passages that are committed together.
_MAX_PASSAGES = 512


_BROKE = "Reading failed inside the service."


@dataclass(frozen=True, slots=True, kw_only=True)
class _Read:
    """A revision that has been read and split, and is about to be indexed."""

    job: Job
    edition_id: str
    result: DocumentRead
    reading: str
    """The sha256 of the stored reading."""
    files: list[StoredFile]
    repeated: list[str]
    """Fingerprints of blocks that were left out where they are at its edges."""
    described: frozenset[str]
    """Hashes of pictures whose descriptions were passed to the worker."""


class ReadStage:
    """Reads waiting revisions with worker processes, taking turns between teams."""

    def __init__(
        self,
        *,
        records: Records,
        blobs: BlobStore,
        editions: Editions,
        progress: ProgressReporter,
        read_seconds: float,
        embedder: str | None,
        readers: int,
    ) -> None:
        self._records = records
        self._blobs = blobs
        self._editions = editions
        self._progress = progress
        self._read_seconds = read_seconds
        self._embedder = embedder
        self._readers = readers
        self._repeated = RepeatedBlocks(records)
        self._interrupted = InterruptedJobs(records)
        self._lock = threading.Lock()
        #: Readers that work for each team, and the team whose turn was last.
        self._working: Counter[str] = Counter()
        self._last_team = ""

    def round(self, reader: DocumentReader) -> bool:
        """Read, split and index some waiting revisions; return whether there were any.

        Short documents share a unit of work, and wait only a moment for each other.
        """
        self._interrupted.queue_again(_BROKE)
        team = self._next_team()
        if team is None:
            return False
        try:
            jobs = claim(self._records, JobStage.READ, _READ_AT_ONCE, [team])
            with self._interrupted.queued_again(jobs):
                return self._read_jobs(reader, jobs)
        finally:
            with self._lock:
                self._working[team] -= 1

    def _next_team(self) -> str | None:
        """Return the next team in turn that does not have its share of the readers yet."""
        share = max(1, self._readers - 1)
        with self._lock, self._records.reading() as session:
            for team in waiting_teams(session, JobStage.READ, self._last_team):
                if self._working[team] < share:
                    self._working[team] += 1
                    self._last_team = team
                    return team
        return None

    def _read_jobs(self, reader: DocumentReader, jobs: Sequence[Job]) -> bool:
        pending: list[_Read] = []
        since = time.monotonic()
        for job in jobs:
            self._progress.start(job)
            ids = {"job": job.id, "revision": job.revision_id, "kb": job.kb_id, "team": job.team_id}
            try:
                with tracing.span("read document", **ids) as span:
                    read = self._read(reader, job)
                    span.failed = read is None
                    span.set(passages=None if read is None else len(read.result.passages))
            except Exception:
                # One document must not stop those claimed with it.
                log.exception("reading failed", job=job.id)
                attempt_failed(self._records, job, _BROKE)
                continue
            if read is not None:
                pending.append(read)
            passages = sum(len(item.result.passages) for item in pending)
            if time.monotonic() - since > _MAX_WAIT or passages > _MAX_PASSAGES:
                self._commit(pending)
                pending, since = [], time.monotonic()
        self._commit(pending)
        return bool(jobs)

    def _read(self, reader: DocumentReader, job: Job) -> _Read | None:
        """Read and split a revision in the worker; None when it failed or is gone."""
        with self._records.reading() as session:
            document = session.get(Document, job.document_key)
            revision = session.get(Revision, job.revision_id)
            edition = edition_of_job(session, job)
            if document is None or revision is None or edition is None:
                return None  # deleted since, and the job with it
            request = self._request(session, job, document, revision, edition)
        stored: list[tuple[str, int]] = []
        try:
            reply = reader.read(
                request,
                self._read_seconds,
                lambda message: self._report(job, message),
                lambda data: stored.append(self._blobs.put([data])),
            )
        except WorkerOverran:
            minutes = self._read_seconds / 60
            message = f"Reading took more than {minutes:.0f} minutes. Add the document in parts."
            job_failed(self._records, job, "too_large", message)
            return None
        except WorkerDied:
            message = (
                "Reading the file broke the reading process each time. Add it in another format."
            )
            attempt_failed(self._records, job, message)
            return None
        if isinstance(reply, TranscriptNeeded):
            self._await_transcript(job, reply)
            return None
        if isinstance(reply, PicturesOnly):
            self._await_descriptions(job, reply)
            return None
        if isinstance(reply, Failed):
            if reply.cause:
                log.warning("document cannot be read", job=job.id, exception=reply.cause)
            job_failed(self._records, job, reply.code, reply.error)
            return None
        assert isinstance(reply, DocumentRead)
        if reply.reading is None:
            reading = str(revision.reading)
        else:
            reading = store_reading(self._blobs, reply.reading)
        fault("blob_stored")
        return _Read(
            job=job,
            edition_id=edition.id,
            result=reply,
            reading=reading,
            files=[
                StoredFile(file.name, sha256, size, file.tags)
                for file, (sha256, size) in zip(reply.files, stored, strict=True)
            ],
            repeated=request.repeated,
            described=frozenset(request.pictures),
        )

    def _request(
        self,
        session: Session,
        job: Job,
        document: Document,
        revision: Revision,
        edition: Edition,
    ) -> ReadDocument:
        columns = revision.columns
        # For a standby edition, the reading of the active one is split again.
        reading = None if job.for_active else revision.reading
        return ReadDocument(
            path=str(self._blobs.path(revision.sha256)),
            name=document.name,
            splitting=split_settings(edition.settings),
            columns=None if columns is None else Columns.of(columns),
            repeated=self._repeated.left_out_of(session, document),
            transcript=self._transcript(session, job, revision),
            pictures=texts_of(session, session.get_one(Kb, job.kb_id), document.key),
            reading=None if reading is None else str(self._blobs.path(reading)),
        )

    def _transcript(self, session: Session, job: Job, revision: Revision) -> list[Cue] | None:
        """Return what is said in a recording, if it has been transcribed."""
        if revision.media_type not in RECORDINGS:
            return None
        return find_transcript(session, session.get_one(Kb, job.kb_id), revision.sha256)

    def _await_transcript(self, job: Job, needed: TranscriptNeeded) -> None:
        """End a job: another one reads the recording when it has been transcribed."""
        with self._records.writing() as session:
            row, document = session.get(Job, job.id), session.get(Document, job.document_key)
            revision = session.get(Revision, job.revision_id)
            if row is None or document is None or revision is None:
                return
            row.state, row.error, row.changed_at = JobState.DONE, "needs a transcript", now()
            revision.media_type, revision.duration = needed.media_type, needed.duration
            if states.moves(job, document):
                await_transcript(document, session.get_one(Kb, job.kb_id))

    def _await_descriptions(self, job: Job, alone: PicturesOnly) -> None:
        """End a job: a document without text is read again when its pictures are described."""
        with self._records.writing() as session:
            row, document = session.get(Job, job.id), session.get(Document, job.document_key)
            revision = session.get(Revision, job.revision_id)
            if row is None or document is None or revision is None:
                return
            kb = session.get_one(Kb, job.kb_id)
            revision.media_type = alone.media_type
            record_pictures(session, revision, kb, alone.pictures)
            texts = texts_of(session, kb, document.key)
            will_come = waiting_pictures(session, kb, revision.id) or texts
            if not (job.for_active and will_come):
                row.state, row.error, row.changed_at = JobState.FAILED, alone.error, now()
                states.fail(document, job, "no_text", alone.error)
                return
            row.state, row.error, row.changed_at = JobState.DONE, "needs descriptions", now()
            if states.moves(job, document):
                states.describing(document, 0.0)

    def _report(self, job: Job, message: PagesRead | Splitting) -> None:
        if isinstance(message, Splitting):
            self._progress.report([job], DocumentState.SPLITTING, None)
        else:
            share = message.done / message.total if message.total else None
            self._progress.report([job], DocumentState.READING, share)

    def _commit(self, reads: Sequence[_Read]) -> None:
        """Make revisions searchable by keywords, those of one edition in one unit of work."""
        for edition_id in dict.fromkeys(read.edition_id for read in reads):
            group = [read for read in reads if read.edition_id == edition_id]
            with (
                tracing.span("index documents", edition=edition_id, documents=len(group)),
                self._editions.writer(edition_id),
            ):
                self._commit_edition(edition_id, group)
                fault("words_committed")
        if pages := [read.job.document_key for read in reads if read.result.edges]:
            self._repeated.read_again(pages)

    def _commit_edition(self, edition_id: str, reads: Sequence[_Read]) -> None:
        for read in reads:
            if read.job.for_active:
                add_many_contained(self._records, read.job, read.files)
        with self._records.writing() as session:
            edition = session.get(Edition, edition_id)
            if edition is None:
                return
            with loaded(session, [read.job for read in reads]):
                entries = [entry for read in reads for entry in self._index(session, edition, read)]
            if entries:
                languages = sorted({read.result.language for read in reads})
                averages = self._editions.averages(edition_id)
                segment = WordsSegment.build(entries, languages, averages)
                self._editions.write(session, edition, segment)

    def _index(self, session: Session, edition: Edition, read: _Read) -> list[WordsEntry]:
        """Replace a document's passages, within the caller's unit of work.

        Return their entries.
        """
        started = time.monotonic()
        job = session.get(Job, read.job.id)
        document = session.get(Document, read.job.document_key)
        revision = session.get(Revision, read.job.revision_id)
        if document is None or revision is None or job is None:
            return []
        outdated = document.latest_revision_id != revision.id
        if outdated or document.state == DocumentState.REMOVED:
            job.state, job.error, job.changed_at = JobState.DONE, "no longer needed", now()
            return []
        if job.for_active and not self._has_room(session, document, job, read):
            return []
        title, about, model = self._described(session, read)
        retire_passages(session, edition.id, document)
        passages = read.result.passages
        rows = [
            passage_row(edition, document, revision, number, passage, embedded_text(passage))
            for number, passage in enumerate(passages)
        ]
        ids = insert_passages(session, rows)
        analyser = analyser_of(read.result.language)
        entries = [
            words_entry(passage_id, document.key, title, passage, analyser, about)
            for passage_id, passage in zip(ids, passages, strict=True)
        ]
        # Without an embedder documents wait for one; those of an edition whose embedder is gone
        # are searched by keywords only.
        embeds = bool(edition.embedder and rows) and (
            self._embedder in (None, edition.embedder)
            or find_embedder(session, edition.embedder or "") is not None
        )
        job.stage, job.total, job.changed_at = JobStage.EMBED, len(rows), now()
        if embeds:
            put_back(session, job)
        else:
            job.state = JobState.DONE
        job.embedder = edition.embedder
        if job.for_active:
            document.title = title
            document.description, document.described_by = about, model
            self._record(session, document, revision, read, embeds=embeds)
            seconds = round(time.monotonic() - started, 3)
            revision.seconds = {**read.result.seconds, "words": seconds}
        return entries

    def _has_room(self, session: Session, document: Document, job: Job, read: _Read) -> bool:
        """Return whether the team's quota allows a document's passages; fail the job if not."""
        indexed = session.get(Revision, document.revision_id) if document.revision_id else None
        before = 0 if indexed is None else indexed.passages or 0
        try:
            check_passages(session, document.team_id, len(read.result.passages) - before)
        except QuotaReached as error:
            job.state, job.error, job.changed_at = JobState.FAILED, str(error), now()
            states.fail(document, job, "quota", f"{error} Retry the document when there is room.")
            return False
        return True

    def _described(self, session: Session, read: _Read) -> tuple[str, str, str | None]:
        """Return a document's title, description and the model behind it (None: built in)."""
        about = read.result.about
        written = session.get(Description, read.job.revision_id)
        kb = session.get_one(Kb, read.job.kb_id)
        if written is None or not written.description or written.model != kb.describer:
            return about.title, about.description, None
        return written.title or about.title, written.description, written.model

    def _record(
        self,
        session: Session,
        document: Document,
        revision: Revision,
        read: _Read,
        *,
        embeds: bool,
    ) -> None:
        """Record what reading yielded, and move the document on."""
        result = read.result
        reading, report = result.reading, result.report
        revision.reading = read.reading
        if reading is not None:
            revision.media_type = result.media_type
            revision.pages = reading.pages
            revision.duration = reading.duration
            kb = session.get_one(Kb, read.job.kb_id)
            record_pictures(session, revision, kb, reading.pictures, read.described)
            revision.warnings = list(reading.warnings)
        if report is not None:
            revision.report = report.to_dict()
        revision.language = result.language
        revision.passages = len(result.passages)
        revision.tokens = sum(passage.tokens for passage in result.passages)
        if warning := add_contained(session, document, read.files):
            revision.warnings = [*revision.warnings, warning]
        document.revision_id = revision.id
        record_edges(session, document, result.edges, read.repeated)
        record_statements(session, document, revision, result.validity, result.opening_dates)
        revision.answerable_at = revision.answerable_at or now()
        if embeds:
            states.keyword_ready(document)
        else:
            states.indexed(document)
            revision.indexed_at = now()
