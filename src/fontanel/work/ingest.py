"""The ingest pipeline: read and split a revision, index it by words, embed it, index it by meaning.

Each step ends in one transaction that also moves the job on, so that a process killed at any point leaves the step either
done or to be done again from its start.
"""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

import numpy as np
import structlog
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from fontanel.core.analysis import Analyser
from fontanel.core.embedding import text_key
from fontanel.core.index import VectorSegment, WordsSegment
from fontanel.core.indexing import embedded_text, words_entry
from fontanel.core.splitting import Locator, Part, Passage
from fontanel.records.blobs import BlobStore
from fontanel.records.database import Sessions, writing
from fontanel.records.tables import (
    Document,
    DocumentState,
    Edition,
    Job,
    JobStage,
    JobState,
    Kb,
    PassageRow,
    Revision,
    Tombstone,
    now,
)
from fontanel.records.vector_cache import VectorCache
from fontanel.work.changes import Changes
from fontanel.work.editions import Editions
from fontanel.work.faults import fault
from fontanel.work.processes import Worker, WorkerDied, WorkerOverran
from fontanel.work.queue import MOST_ATTEMPTS, claim, retry_later

log = structlog.get_logger()

#: Passages embedded between two looks at the queue: small enough that a short document need not wait for a long one.
_ROUND = 256
_TEXTS_AT_ONCE = 64


class Ingest:
    """Moves documents from waiting to indexed. `read_one` and `embed_round` are called by the workshop's threads."""

    def __init__(
        self, sessions: Sessions, blobs: BlobStore, vectors: VectorCache, editions: Editions, changes: Changes,
        read_seconds: float,
    ) -> None:  # fmt: skip
        self._sessions = sessions
        self._blobs = blobs
        self._vectors = vectors
        self._editions = editions
        self._changes = changes
        self._read_seconds = read_seconds
        self._analysers = threading.local()

    # Reading and words

    def read_one(self, worker: Worker) -> bool:
        """Read, split and index by words one waiting revision; return whether there was one."""
        jobs = claim(self._sessions, JobStage.READ)
        if not jobs:
            return False
        job = jobs[0]
        with self._sessions() as session:
            document = session.get(Document, job.document_key)
            revision = session.get(Revision, job.revision_id)
            edition = self._edition(session, job.kb_id)
        if document is None or revision is None or edition is None:
            return True  # deleted meanwhile, and the job with it
        self._set_state(job, DocumentState.READING, 0.0)
        started = time.monotonic()

        def on_progress(message: dict[str, Any]) -> None:
            if "stage" in message:
                self._set_state(job, DocumentState.SPLITTING, None)
            else:
                done, total = message["progress"]
                self._set_state(job, DocumentState.READING, done / total if total else None)

        settings = {key: edition.settings[key] for key in ("target_tokens", "least_tokens")}
        try:
            reply = worker.read(
                self._blobs.path(revision.sha256), document.name, settings, self._read_seconds, on_progress
            )
        except WorkerOverran:
            minutes = self._read_seconds / 60
            self._fail(
                job, "too_large", f"Reading took more than {minutes:.0f} minutes. Add the document in smaller parts."
            )
            return True
        except WorkerDied:
            self._died(job, "Reading the file broke the reading process each time. Add it in another format.")
            return True
        if "error" in reply:
            self._fail(job, reply["code"], reply["error"])
        else:
            self._commit_words(job, reply, time.monotonic() - started)
        return True

    def _commit_words(self, job: Job, reply: dict[str, Any], seconds: float) -> None:
        reading = reply["reading"]
        passages = [_passage(data) for data in reply["passages"]]
        sha256, _ = self._blobs.put([json.dumps(reading, ensure_ascii=False).encode()])
        fault("blob_stored")
        started = time.monotonic()
        analyser = self._analyser(reading["language"])
        edition_id = ""
        with self._sessions() as session:
            kb = session.get(Kb, job.kb_id)
            if kb is None:
                return
            edition_id = kb.edition_id
        with self._editions.writer(edition_id):
            with writing(self._sessions) as session:
                document = session.get(Document, job.document_key)
                revision = session.get(Revision, job.revision_id)
                edition = session.get(Edition, edition_id)
                row = session.get(Job, job.id)
                if document is None or revision is None or edition is None or row is None:
                    return
                if document.latest_revision_id != revision.id:
                    row.state, row.error, row.changed_at = JobState.DONE, "replaced by a newer revision", now()
                    session.commit()
                    return
                retire_passages(session, edition.id, document)
                title = reading["title"]
                rows = [
                    PassageRow(
                        team_id=document.team_id, edition_id=edition.id, document_key=document.key,
                        revision_id=revision.id, ordinal=number, start=passage.start, end=passage.end,
                        text=passage.text, context=passage.context, tokens=passage.tokens,
                        locator=passage.locator.to_dict(), parts=[asdict(part) for part in passage.parts],
                        embedded_text=embedded_text(title, passage),
                    )
                    for number, passage in enumerate(passages)
                ]  # fmt: skip
                session.add_all(rows)
                session.flush()
                entries = [
                    words_entry(row.id, document.key, title, passage, analyser)
                    for row, passage in zip(rows, passages, strict=True)
                ]
                self._editions.write(session, edition, WordsSegment.build(entries, [analyser.language]))
                revision.reading = sha256
                revision.media_type = reply["media_type"]
                revision.pages = reading["pages"]
                revision.passages = len(passages)
                revision.tokens = sum(passage.tokens for passage in passages)
                revision.language = reading["language"]
                revision.warnings = list(reading["warnings"])
                revision.seconds = {"read": round(seconds, 3), "words": round(time.monotonic() - started, 3)}
                document.title = title
                document.revision_id = revision.id
                document.error = document.error_code = None
                document.state = DocumentState.INDEXED_BY_WORDS if edition.embedder else DocumentState.INDEXED
                document.progress = 0.0 if edition.embedder else None
                document.changed_at = now()
                row.stage, row.total, row.changed_at = JobStage.EMBED, len(passages), now()
                row.state = JobState.WAITING if edition.embedder else JobState.DONE
                if not edition.embedder:
                    revision.indexed_at = now()
                session.commit()
            fault("words_committed")
            self._editions.refresh(edition_id)
        self._changes.tell(job.kb_id)

    # Vectors

    def embed_round(self, worker: Worker, embedder: str) -> bool:
        """Embed up to a round's worth of passages of the waiting revisions; commit those that are complete."""
        jobs = claim(self._sessions, JobStage.EMBED, limit=64)
        if not jobs:
            return False
        missing: dict[bytes, str] = {}
        complete: list[Job] = []
        unfinished: list[tuple[Job, int, int]] = []
        started = time.monotonic()
        for job in jobs:
            texts = self._texts(job)
            keys = [text_key(embedder, text) for text in texts]
            held = self._vectors.get(keys)
            wanted = {
                key: text for key, text in zip(keys, texts, strict=True) if key not in held and key not in missing
            }
            # A long document takes half a round at most while others wait.
            room = min(_ROUND - len(missing), _ROUND // 2 if len(jobs) > 1 else _ROUND)
            taken = dict(list(wanted.items())[: max(room, 0)])
            missing |= taken
            if len(taken) == len(wanted):
                complete.append(job)
            else:
                unfinished.append((job, len(keys) - len(wanted) + len(taken), len(keys)))
        try:
            self._embed(worker, missing, complete)
        except WorkerDied:
            for job in jobs:
                self._died(
                    job, "Embedding broke its process each time. Retry the document, and look at the service's log."
                )
            return True
        for edition_id, group in self._by_edition(complete).items():
            self._commit_vectors(edition_id, group, embedder, time.monotonic() - started)
        for job, done, total in unfinished:
            with writing(self._sessions) as session:
                row, document = session.get(Job, job.id), session.get(Document, job.document_key)
                if row is not None and document is not None:
                    row.state, row.attempts, row.done, row.total = JobState.WAITING, 0, done, total
                    document.progress = done / total
                session.commit()
        for kb_id in {job.kb_id for job in jobs}:
            self._changes.tell(kb_id)
        return True

    def _texts(self, job: Job) -> list[str]:
        with self._sessions() as session:
            query = select(PassageRow.embedded_text).where(PassageRow.revision_id == job.revision_id)
            return list(session.scalars(query.order_by(PassageRow.ordinal)))

    def _embed(self, worker: Worker, missing: dict[bytes, str], jobs: Sequence[Job]) -> None:
        """Embed texts, longest last so that batches are of like length, and keep each chunk as soon as it is there."""
        order = sorted(missing, key=lambda key: len(missing[key]))
        for start in range(0, len(order), _TEXTS_AT_ONCE):
            keys = order[start : start + _TEXTS_AT_ONCE]
            self._vectors.put(keys, worker.embed([missing[key] for key in keys]))
            fault("vectors_cached")
            share = (start + len(keys)) / len(order)
            if share < 1:
                for job in jobs:
                    self._set_state(job, DocumentState.INDEXED_BY_WORDS, share)

    def _by_edition(self, jobs: Sequence[Job]) -> dict[str, list[Job]]:
        groups: dict[str, list[Job]] = {}
        with self._sessions() as session:
            for job in jobs:
                kb = session.get(Kb, job.kb_id)
                if kb is not None:
                    groups.setdefault(kb.edition_id, []).append(job)
        return groups

    def _commit_vectors(self, edition_id: str, jobs: Sequence[Job], embedder: str, seconds: float) -> None:
        with self._editions.writer(edition_id):
            with writing(self._sessions) as session:
                edition = session.get(Edition, edition_id)
                if edition is None:
                    return
                ids: list[int] = []
                keys: list[bytes] = []
                for job in jobs:
                    row, document = session.get(Job, job.id), session.get(Document, job.document_key)
                    revision = session.get(Revision, job.revision_id)
                    if row is None or document is None or revision is None:
                        continue
                    row.state, row.done, row.total, row.changed_at = JobState.DONE, row.total, row.total, now()
                    if document.revision_id != revision.id:
                        continue  # a newer revision has taken its place
                    for passage_id, text in session.execute(
                        select(PassageRow.id, PassageRow.embedded_text).where(PassageRow.revision_id == revision.id)
                    ):
                        ids.append(passage_id)
                        keys.append(text_key(embedder, text))
                    revision.seconds = {**revision.seconds, "embed": round(seconds, 3)}
                    revision.indexed_at = now()
                    if document.latest_revision_id == revision.id:
                        document.state, document.progress = DocumentState.INDEXED, None
                        document.changed_at = now()
                if ids:
                    held = self._vectors.get(keys)
                    vectors = np.stack([held[key] for key in keys])
                    self._editions.write(session, edition, VectorSegment(np.array(ids, dtype=np.int64), vectors))
                session.commit()
            fault("vectors_committed")
            self._editions.refresh(edition_id)
        while self._editions.merge(edition_id):
            pass

    # States and failures

    def _set_state(self, job: Job, state: DocumentState, progress: float | None) -> None:
        with writing(self._sessions) as session:
            document = session.get(Document, job.document_key)
            if document is not None and document.latest_revision_id == job.revision_id:
                document.state, document.progress = state, progress
            session.commit()
        self._changes.tell(job.kb_id)

    def _died(self, job: Job, message: str) -> None:
        """A worker ended under a job: try again, a few times."""
        log.warning("worker process ended", job=job.id, attempt=job.attempts)
        if job.attempts >= MOST_ATTEMPTS:
            self._fail(job, "broke", message)
            return
        with writing(self._sessions) as session:
            row = session.get(Job, job.id)
            if row is not None:
                retry_later(session, row)
            session.commit()

    def _fail(self, job: Job, code: str, message: str) -> None:
        """Mark the document failed; its last good revision stays in the index."""
        with writing(self._sessions) as session:
            row, document = session.get(Job, job.id), session.get(Document, job.document_key)
            if row is not None:
                row.state, row.error, row.changed_at = JobState.FAILED, message, now()
            if document is not None and document.latest_revision_id == job.revision_id:
                document.state, document.progress = DocumentState.FAILED, None
                document.error_code, document.error = code, message
                document.changed_at = now()
            session.commit()
        self._changes.tell(job.kb_id)

    def _edition(self, session: Session, kb_id: str) -> Edition | None:
        kb = session.get(Kb, kb_id)
        return session.get(Edition, kb.edition_id) if kb else None

    def _analyser(self, language: str) -> Analyser:
        """Stemmers are not shared between threads."""
        held: dict[str, Analyser] = self._analysers.__dict__.setdefault("held", {})
        if language not in held:
            held[language] = Analyser(language)
        return held[language]


def retire_passages(session: Session, edition_id: str, document: Document) -> None:
    """Take a document's passages out of an edition, within the caller's transaction."""
    ids = session.scalars(
        select(PassageRow.id).where(PassageRow.document_key == document.key, PassageRow.edition_id == edition_id)
    ).all()
    session.add_all(Tombstone(edition_id=edition_id, passage_id=passage, team_id=document.team_id) for passage in ids)
    session.execute(
        delete(PassageRow).where(PassageRow.document_key == document.key, PassageRow.edition_id == edition_id)
    )


def _passage(data: dict[str, Any]) -> Passage:
    return Passage(
        data["start"], data["end"], data["text"], Locator.from_dict(data["locator"]), data["tokens"], data["context"],
        tuple(Part(**part) for part in data["parts"]),
    )  # fmt: skip
