"""The ingest pipeline: read and split a revision, index it by words, embed it, index it by meaning.

Each step ends in one transaction that also moves the job on, so that a process killed at any point leaves the step either
done or to be done again from its start.
"""

from __future__ import annotations

import json
import threading
import time
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import structlog
from sqlalchemy.orm import Session

from fontanel.core.embedding.encoder import text_key
from fontanel.core.index import WordsEntry, WordsSegment
from fontanel.core.passages.fields import embedded_text, words_entry
from fontanel.core.passages.splitting import Passage
from fontanel.core.text.analysis import Analyser
from fontanel.engine.editions.store import Editions
from fontanel.engine.ingest.passages import (
    embedded_passages,
    insert_passages,
    passage_of,
    passage_row,
    retire_passages,
    split_settings,
    write_vectors,
)
from fontanel.engine.ingest.progress import ProgressReporter
from fontanel.engine.ingest.queue import MAX_ATTEMPTS, claim, retry_later, waiting_teams
from fontanel.engine.runtime.fault_points import fault
from fontanel.engine.workers.processes import Worker, WorkerDied, WorkerOverran
from fontanel.records.blobs import BlobStore
from fontanel.records.tables import (
    Description,
    Document,
    DocumentState,
    Edition,
    Job,
    JobStage,
    JobState,
    Kb,
    Revision,
    now,
)
from fontanel.records.unit_of_work import Records
from fontanel.records.vector_cache import VectorCache

log = structlog.get_logger()

#: Passages embedded between two looks at the queue: small enough that a short document need not wait for a long one.
_ROUND = 512
_TEXTS_AT_ONCE = 128
#: Revisions claimed together for reading, and the seconds after which those that were read are committed.
_READ_AT_ONCE = 16
_MOMENT = 0.4


@dataclass(frozen=True, slots=True)
class _Read:
    """A revision that has been read and split, and is about to be indexed by words."""

    job: Job
    edition_id: str
    reading: dict[str, Any]
    media_type: str | None
    sha256: str
    passages: list[Passage]
    seconds: dict[str, float]
    report: dict[str, Any]
    about: dict[str, str]
    members: list[StoredFile]


@dataclass(frozen=True, slots=True)
class StoredFile:
    """A file found inside a document, its bytes stored already."""

    name: str
    sha256: str
    size: int
    tags: dict[str, str]


#: Puts the files inside a document in place as documents of their own, within the transaction that indexes it; returns what is to
#: be said about those that were left out.
AddContained = Callable[[Session, Document, Sequence[StoredFile]], str | None]


class Ingest:
    """Moves documents from waiting to indexed. `read_round` and `embed_round` are called by the runtime's threads."""

    def __init__(
        self,
        *,
        records: Records,
        blobs: BlobStore,
        vectors: VectorCache,
        editions: Editions,
        read_seconds: float,
        add_contained: AddContained,
        embedder: str | None,
        readers: int,
    ) -> None:
        self._take_in = add_contained
        self._embedder = embedder
        self._records = records
        self._blobs = blobs
        self._vectors = vectors
        self._editions = editions
        self._read_seconds = read_seconds
        self._analysers = threading.local()
        self._progress = ProgressReporter(records)
        self._readers = readers
        self._lock = threading.Lock()
        #: Readers that are at work for each team, and the team that each stage served last.
        self._reading: Counter[str] = Counter()
        self._last_read = self._last_embedded = ""

    # Reading and words

    def read_round(self, worker: Worker) -> bool:
        """Read and split waiting revisions and index them by words; return whether there were any.

        Short documents share a transaction; none waits longer than a moment for the others.
        """
        team = self._begin_reading()
        if team is None:
            return False
        try:
            return self._read_jobs(
                worker, claim(self._records, JobStage.READ, _READ_AT_ONCE, [team])
            )
        finally:
            with self._lock:
                self._reading[team] -= 1

    def _begin_reading(self) -> str | None:
        """The team whose documents are read next: in turn, and none that has as many readers as it may."""
        with self._lock, self._records.reading() as session:
            share = max(1, self._readers - 1)
            for team in waiting_teams(session, JobStage.READ, self._last_read):
                if self._reading[team] < share:
                    self._reading[team] += 1
                    self._last_read = team
                    return team
        return None

    def _read_jobs(self, worker: Worker, jobs: Sequence[Job]) -> bool:
        held: list[_Read] = []
        since = time.monotonic()
        for job in jobs:
            self._progress.start(job)
            read = self._read(worker, job)
            if read is not None:
                held.append(read)
            if (
                time.monotonic() - since > _MOMENT
                or sum(len(item.passages) for item in held) > _ROUND
            ):
                self._commit_words(held)
                held, since = [], time.monotonic()
        self._commit_words(held)
        return bool(jobs)

    def _read(self, worker: Worker, job: Job) -> _Read | None:
        """Read and split one revision in the worker; None when it failed or is gone."""
        with self._records.reading() as session:
            document = session.get(Document, job.document_key)
            revision = session.get(Revision, job.revision_id)
            edition = self._edition(session, job)
        if document is None or revision is None or edition is None:
            return None  # deleted meanwhile, and the job with it

        def on_progress(message: dict[str, Any]) -> None:
            if "stage" in message:
                self._progress.show([job], DocumentState.SPLITTING, None)
            else:
                done, total = message["progress"]
                self._progress.show([job], DocumentState.READING, done / total if total else None)

        inside: list[tuple[str, int]] = []

        def on_attached(number: int, data: bytes) -> None:
            inside.append(self._blobs.put([data]))

        request = {
            "path": str(self._blobs.path(revision.sha256)),
            "name": document.name,
            "settings": split_settings(edition.settings),
            "columns": revision.columns,
        }
        if job.edition_id is not None and revision.reading is not None:
            # What the revision says is known from the edition that serves.
            request["reading"] = str(self._blobs.path(revision.reading))
        try:
            reply = worker.read(request, self._read_seconds, on_progress, on_attached)
        except WorkerOverran:
            minutes = self._read_seconds / 60
            message = (
                f"Reading took more than {minutes:.0f} minutes. Add the document in smaller parts."
            )
            self._fail(job, "too_large", message)
            return None
        except WorkerDied:
            self._died(
                job,
                "Reading the file broke the reading process each time. Add it in another format.",
            )
            return None
        if "error" in reply:
            self._fail(job, reply["code"], reply["error"])
            return None
        seconds = reply["seconds"]
        if "reading" in request:
            sha256 = str(revision.reading)
        else:
            sha256, _ = self._blobs.put(
                [json.dumps(reply["reading"], ensure_ascii=False).encode(errors="replace")]
            )
        fault("blob_stored")
        passages = [passage_of(data) for data in reply["passages"]]
        members = [
            StoredFile(member["name"], stored, size, member["tags"])
            for member, (stored, size) in zip(reply["members"], inside, strict=True)
        ]
        return _Read(
            job,
            edition.id,
            reply["reading"],
            reply["media_type"],
            sha256,
            passages,
            seconds,
            reply["report"],
            reply["about"],
            members,
        )

    def _commit_words(self, reads: Sequence[_Read]) -> None:
        """Make revisions searchable by words, those of one edition in one transaction."""
        for edition_id in dict.fromkeys(read.edition_id for read in reads):
            group = [read for read in reads if read.edition_id == edition_id]
            with self._editions.writer(edition_id):
                with self._records.writing() as session:
                    edition = session.get(Edition, edition_id)
                    if edition is None:
                        continue
                    entries: list[WordsEntry] = []
                    for read in group:
                        entries += self._index_words(session, edition, read)
                    if entries:
                        languages = sorted({read.reading["language"] for read in group})
                        averages = self._editions.averages(edition_id)
                        self._editions.write(
                            session, edition, WordsSegment.build(entries, languages, averages)
                        )
                fault("words_committed")

    def _index_words(self, session: Session, edition: Edition, read: _Read) -> list[WordsEntry]:
        """Put a revision's passages in its predecessor's place, within the caller's transaction; return their entries."""
        started = time.monotonic()
        document, revision = (
            session.get(Document, read.job.document_key),
            session.get(Revision, read.job.revision_id),
        )
        job = session.get(Job, read.job.id)
        if document is None or revision is None or job is None:
            return []
        if document.latest_revision_id != revision.id or document.state == DocumentState.REMOVED:
            job.state, job.error, job.changed_at = JobState.DONE, "no longer wanted", now()
            return []
        reading = read.reading
        title, about, by = read.about["title"], read.about["description"], None
        written = session.get(Description, revision.id)
        kb = session.get_one(Kb, read.job.kb_id)
        if written is not None and written.description and written.model == kb.describer:
            title, about, by = written.title or title, written.description, written.model
        retire_passages(session, edition.id, document)
        rows = [
            passage_row(edition, document, revision, number, passage, embedded_text(passage))
            for number, passage in enumerate(read.passages)
        ]
        ids = insert_passages(session, rows)
        analyser = self._analyser(reading["language"])
        entries = [
            words_entry(passage_id, document.key, title, passage, analyser, about)
            for passage_id, passage in zip(ids, read.passages, strict=True)
        ]
        # Without an embedder documents wait until there is one again; those of another one's edition are found by words.
        semantic = bool(edition.embedder and rows) and self._embedder in (None, edition.embedder)
        job.stage, job.total, job.changed_at = JobStage.EMBED, len(rows), now()
        job.state = JobState.WAITING if semantic else JobState.DONE
        if job.edition_id is not None:
            return entries
        revision.reading = read.sha256
        revision.media_type = read.media_type
        revision.pages = reading["pages"]
        revision.passages = len(rows)
        revision.tokens = sum(passage.tokens for passage in read.passages)
        revision.language = reading["language"]
        revision.warnings = list(reading["warnings"])
        revision.report = read.report
        if warning := self._take_in(session, document, read.members):
            revision.warnings = [*revision.warnings, warning]
        document.title = title
        document.description, document.described_by = about, by
        document.revision_id = revision.id
        document.error = document.error_code = None
        document.state = DocumentState.KEYWORD_READY if semantic else DocumentState.INDEXED
        document.progress = 0.0 if semantic else None
        revision.answerable_at = revision.answerable_at or now()
        if not semantic:
            revision.indexed_at = now()
        revision.seconds = {**read.seconds, "words": round(time.monotonic() - started, 3)}
        return entries

    # Vectors

    def embed_round(self, worker: Worker, embedder: str) -> bool:
        """Embed up to a round's worth of passages of the waiting revisions; commit those that are complete."""
        with self._records.reading() as session:
            teams = waiting_teams(session, JobStage.EMBED, self._last_embedded)
        jobs = claim(self._records, JobStage.EMBED, 64, teams, _ROUND)
        if not jobs:
            return False
        self._last_embedded = teams[0]
        missing: dict[tuple[str, bytes], str] = {}
        complete: list[Job] = []
        unfinished: list[tuple[Job, int, int]] = []
        fresh: dict[str, int] = {}
        started = time.monotonic()
        for job in jobs:
            texts, wholes = self._texts(job)
            keys = [text_key(embedder, text) for text in texts]
            held = self._vectors.get(job.team_id, keys)
            wanted = {
                (job.team_id, key): text
                for key, text in zip(keys, texts, strict=True)
                if key not in held and (job.team_id, key) not in missing
            }
            # A long document takes half a round at most while others wait.
            room = min(_ROUND - len(missing), _ROUND // 2 if len(jobs) > 1 else _ROUND)
            taken = dict(list(wanted.items())[: max(room, 0)])
            missing |= taken
            fresh[job.id] = sum(
                whole and (job.team_id, key) in taken
                for key, whole in zip(keys, wholes, strict=True)
            )
            if len(taken) == len(wanted):
                complete.append(job)
            else:
                unfinished.append((job, len(keys) - len(wanted) + len(taken), len(keys)))
        try:
            self._embed(worker, missing, complete)
        except WorkerDied:
            for job in jobs:
                self._died(
                    job,
                    "Embedding broke its process each time. Retry the document, and look at the service's log.",
                )
            return True
        # What a passage took, so that the documents' times add up to the round's.
        each = (time.monotonic() - started) / max(sum(fresh.values()), 1)
        for edition_id, group in self._by_edition(complete).items():
            self._commit_vectors(edition_id, group, embedder, each, fresh)
        if unfinished:
            self._put_back(unfinished, each, fresh)
        return True

    def _put_back(
        self, unfinished: Sequence[tuple[Job, int, int]], each: float, fresh: Mapping[str, int]
    ) -> None:
        """Jobs of which a part is embedded wait for the next round."""
        with self._records.writing() as session:
            for job, done, total in unfinished:
                row, document = session.get(Job, job.id), session.get(Document, job.document_key)
                if row is not None and document is not None:
                    row.state, row.done, row.total = JobState.WAITING, done, total
                    if row.edition_id is None:
                        document.progress = done / total
                        _note_embedded(
                            session.get_one(Revision, job.revision_id), fresh[job.id], each
                        )

    def _texts(self, job: Job) -> tuple[list[str], list[bool]]:
        """All texts of a job that are embedded, and for each whether it is a whole passage's."""
        with self._records.reading() as session:
            edition = self._edition(session, job)
            if edition is None:
                return [], []
            passages = embedded_passages(session, edition, job.revision_id)
        pairs = [(text, number == 0) for _, texts in passages for number, text in enumerate(texts)]
        return [text for text, _ in pairs], [whole for _, whole in pairs]

    def _embed(
        self, worker: Worker, missing: dict[tuple[str, bytes], str], jobs: Sequence[Job]
    ) -> None:
        """Embed texts by (team, key), longest last so that batches are of like length, and keep each chunk at once."""
        order = sorted(missing, key=lambda key: len(missing[key]))
        for start in range(0, len(order), _TEXTS_AT_ONCE):
            keys = order[start : start + _TEXTS_AT_ONCE]
            vectors = worker.embed([missing[key] for key in keys])
            for team_id in dict.fromkeys(team for team, _ in keys):
                rows = [row for row, (team, _) in enumerate(keys) if team == team_id]
                self._vectors.put(team_id, [keys[row][1] for row in rows], vectors[rows])
            fault("vectors_cached")
            share = (start + len(keys)) / len(order)
            if share < 1:
                self._progress.show(jobs, DocumentState.KEYWORD_READY, share)

    def _by_edition(self, jobs: Sequence[Job]) -> dict[str, list[Job]]:
        groups: dict[str, list[Job]] = {}
        with self._records.reading() as session:
            for job in jobs:
                edition = self._edition(session, job)
                if edition is not None:
                    groups.setdefault(edition.id, []).append(job)
        return groups

    def _commit_vectors(
        self,
        edition_id: str,
        jobs: Sequence[Job],
        embedder: str,
        each: float,
        fresh: Mapping[str, int],
    ) -> None:
        with self._editions.writer(edition_id):
            with self._records.writing() as session:
                edition = session.get(Edition, edition_id)
                if edition is None:
                    return
                found: list[tuple[int, list[bytes]]] = []
                for job in jobs:
                    row, document = (
                        session.get(Job, job.id),
                        session.get(Document, job.document_key),
                    )
                    revision = session.get(Revision, job.revision_id)
                    if row is None or document is None or revision is None:
                        continue
                    row.state, row.done, row.total, row.changed_at = (
                        JobState.DONE,
                        row.total,
                        row.total,
                        now(),
                    )
                    # There are none when a newer revision has taken its place.
                    for passage_id, texts in embedded_passages(session, edition, revision.id):
                        found.append((passage_id, [text_key(embedder, text) for text in texts]))
                    if row.edition_id is not None or document.revision_id != revision.id:
                        continue
                    _note_embedded(revision, fresh[job.id], each)
                    revision.indexed_at = now()
                    if document.latest_revision_id == revision.id:
                        document.state, document.progress = DocumentState.INDEXED, None
                write_vectors(self._editions, self._vectors, session, edition, found)
            fault("vectors_committed")

    # States and failures

    def _died(self, job: Job, message: str) -> None:
        """A worker ended under a job: try again, a few times."""
        with self._records.writing() as session:
            row = session.get(Job, job.id)
            if row is None:
                return
            row.attempts += 1
            attempts = row.attempts
            if attempts < MAX_ATTEMPTS:
                retry_later(row)
        log.warning("worker process ended", job=job.id, attempt=attempts)
        if attempts >= MAX_ATTEMPTS:
            self._fail(job, "broke", message)

    def _fail(self, job: Job, code: str, message: str) -> None:
        """Mark the document failed; its last good revision stays in the index."""
        with self._records.writing() as session:
            row, document = session.get(Job, job.id), session.get(Document, job.document_key)
            if row is not None:
                row.state, row.error, row.changed_at = JobState.FAILED, message, now()
            moves = job.edition_id is None
            wanted = document is not None and document.state != DocumentState.REMOVED
            if (
                document is not None
                and moves
                and wanted
                and document.latest_revision_id == job.revision_id
            ):
                document.state, document.progress = DocumentState.FAILED, None
                document.error_code, document.error = code, message

    def _edition(self, session: Session, job: Job) -> Edition | None:
        """The edition that a job goes into."""
        kb = session.get(Kb, job.kb_id)
        return session.get(Edition, job.edition_id or kb.edition_id) if kb else None

    def _analyser(self, language: str) -> Analyser:
        """Stemmers are not shared between threads."""
        held: dict[str, Analyser] = self._analysers.__dict__.setdefault("held", {})
        if language not in held:
            held[language] = Analyser(language)
        return held[language]


def _note_embedded(revision: Revision, passages: int, each: float) -> None:
    """Add passages that were embedded, each in so many seconds, to a revision's figures."""
    seconds = revision.seconds.get("embed", 0.0) + passages * each
    revision.seconds = {**revision.seconds, "embed": round(seconds, 3)}
    revision.embedded += passages
