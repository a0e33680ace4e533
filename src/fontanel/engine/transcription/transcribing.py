"""Transcribes recordings part by part, so that little is lost or paid for twice."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import datetime

import structlog
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.core.answering import TokenUse
from fontanel.core.reading.spoken.cues import Cue
from fontanel.engine.answering.background import TRANSCRIBED, record_use
from fontanel.engine.documents import states
from fontanel.engine.documents.documents import retry_document
from fontanel.engine.documents.origin import origin_of
from fontanel.engine.quotas.quotas import check_recording_minutes
from fontanel.engine.runtime.fault_points import fault
from fontanel.engine.transcription.registered import (
    TranscriberUnusable,
    find_transcriber,
    transcriber_endpoint,
    usable_transcriber,
)
from fontanel.engine.transcription.transcripts import parts_of
from fontanel.engine.workers.framing import Failed
from fontanel.engine.workers.messages import CutSound, SoundCut
from fontanel.engine.workers.processes import Worker, WorkerDied
from fontanel.errors import QuotaReached, SecretUnreadable
from fontanel.facts import DocumentState
from fontanel.llm import CallFailed, Transcribed, TranscriptionClient, TranscriptionEndpoint
from fontanel.records.blobs import BlobStore
from fontanel.records.tables import Document, Kb, Revision, Transcriber, TranscriptPart, now
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault

log = structlog.get_logger()

#: Seconds that two parts of a recording share.
OVERLAP = 10.0
#: Seconds between checks whether a transcriber that cannot be used can be.
_LOOK_AGAIN = 5.0
#: Seconds that cutting a part may take.
_CUT_SECONDS = 120.0
_UNTRANSCRIBED = (DocumentState.NEEDS_TRANSCRIPT, DocumentState.TRANSCRIBING)


@dataclass(frozen=True, slots=True)
class _Task:
    """The next part of a recording."""

    document_key: int
    revision_id: str
    team_id: str
    kb_id: str
    sha256: str
    media_type: str
    duration: float | None
    spoken: str
    start: float
    length: float
    price: float
    endpoint: TranscriptionEndpoint


class Transcribing:
    """Transcribes recordings, those of each knowledge base in turn; for several threads."""

    def __init__(
        self,
        *,
        records: Records,
        blobs: BlobStore,
        client: TranscriptionClient,
        vault: Vault,
        cutter: Worker,
    ) -> None:
        self._records = records
        self._blobs = blobs
        self._client = client
        self._vault = vault
        self._cutter = cutter
        self._lock = threading.Lock()
        self._busy: set[int] = set()
        #: Team (empty for all) and transcriber -> when it may be asked again, and the version of
        #: its settings that failed.
        self._barred: dict[tuple[str, str], tuple[float, int]] = {}
        self._last_kb = ""

    def transcribe_next(self) -> bool:
        """Transcribe a part of a recording; return whether one was waiting."""
        with self._reserved() as document_key:
            if document_key is None:
                return False
            task = self._task(document_key)
            if task is not None:
                self._do(task)
            return True

    @contextmanager
    def _reserved(self) -> Iterator[int | None]:
        """Keep other threads from the document whose turn it is."""
        with self._lock:
            document_key = self._next()
            if document_key is not None:
                self._busy.add(document_key)
        try:
            yield document_key
        finally:
            if document_key is not None:
                with self._lock:
                    self._busy.discard(document_key)

    def _next(self) -> int | None:
        """Return the oldest document that waits, of the knowledge base after the last one."""
        with self._records.reading() as session:
            waiting = (
                select(Kb.id, Kb.team_id, Kb.transcriber)
                .where(Kb.transcriber.is_not(None))
                .where(
                    select(Document.key)
                    .where(Document.kb_id == Kb.id, Document.state.in_(_UNTRANSCRIBED))
                    .exists()
                )
                .order_by(Kb.id)
            )
            kbs = [
                kb
                for kb, team, transcriber in session.execute(waiting)
                if self._open(session, team, str(transcriber))
            ]
            later = [kb for kb in kbs if kb > self._last_kb]
            for kb_id in [*later, *(kb for kb in kbs if kb <= self._last_kb)]:
                oldest = session.scalar(
                    select(Document.key)
                    .where(
                        Document.kb_id == kb_id,
                        Document.state.in_(_UNTRANSCRIBED),
                        Document.key.not_in(self._busy),
                    )
                    # What was begun is finished first.
                    .order_by(Document.progress.desc(), Document.changed_at, Document.key)
                    .limit(1)
                )
                if oldest is not None:
                    self._last_kb = kb_id
                    return int(oldest)
        return None

    def _open(self, session: Session, team_id: str, transcriber: str) -> bool:
        """Return whether a transcriber may be asked now for a team."""
        until, version = max(
            self._barred.get((team, transcriber), (0.0, 0)) for team in ("", team_id)
        )
        if time.monotonic() >= until:
            return True
        row = find_transcriber(session, transcriber)
        return row is not None and row.version != version

    def _task(self, document_key: int) -> _Task | None:
        """Return the next part of a document; None if it cannot be transcribed."""
        with self._records.reading() as session:
            document = session.get(Document, document_key)
            if document is None or document.state not in _UNTRANSCRIBED:
                return None
            revision = session.get_one(Revision, document.latest_revision_id)
            kb = session.get_one(Kb, document.kb_id)
            name = kb.transcriber
            if name is None:
                return None
            try:
                row = usable_transcriber(session, name, kb.team_id)
                check_recording_minutes(session, kb.team_id)
                endpoint = transcriber_endpoint(row, self._vault)
            except (TranscriberUnusable, SecretUnreadable) as error:
                problem = f"The transcriber {name!r} cannot be used: {error}."
            except QuotaReached as reached:
                problem = str(reached)
            else:
                spoken = kb.spoken or ""
                parts = parts_of(session, kb.team_id, revision.sha256, name, spoken)
                return self._at(document, revision, row, endpoint, spoken, parts)
            found = find_transcriber(session, name)
            team_id, kb_id = kb.team_id, kb.id
        self._bar(team_id, name, _LOOK_AGAIN, found)
        self._needs_transcript(kb_id, problem)
        return None

    def _at(
        self,
        document: Document,
        revision: Revision,
        row: Transcriber,
        endpoint: TranscriptionEndpoint,
        spoken: str,
        parts: Sequence[TranscriptPart],
    ) -> _Task | None:
        if parts and parts[-1].last:
            with self._records.writing() as session:
                self._queue(session, document.key, revision.id)
            return None
        start = max(0.0, parts[-1].end - OVERLAP) if parts else 0.0
        return _Task(
            document_key=document.key,
            revision_id=revision.id,
            team_id=document.team_id,
            kb_id=document.kb_id,
            sha256=revision.sha256,
            media_type=revision.media_type or "",
            duration=revision.duration,
            spoken=spoken,
            start=start,
            length=row.part_seconds,
            price=row.price,
            endpoint=endpoint,
        )

    def _do(self, task: _Task) -> None:
        """Cut a part out, have it transcribed, and record it."""
        self._report(task)
        sounds: list[bytes] = []
        path = str(self._blobs.path(task.sha256))
        request = CutSound(
            path=path, media_type=task.media_type, start=task.start, seconds=task.length
        )
        try:
            reply = self._cutter.read(request, _CUT_SECONDS, on_attached=sounds.append)
        except WorkerDied:
            reply = Failed(code="damaged", error="The sound of the recording cannot be read.")
        if isinstance(reply, Failed):
            self._fail(task, reply.code, reply.error)
            return
        assert isinstance(reply, SoundCut)
        sound = b"".join(sounds)
        started = now()
        length = reply.end - task.start
        try:
            done = (
                self._client.transcribe(task.endpoint, sound, length, task.spoken or None)
                if sound
                else Transcribed([], "")
            )
        except CallFailed as error:
            self._failed(task, error)
            return
        fault("transcribed")
        self._keep(task, reply, done, started)

    def _failed(self, task: _Task, error: CallFailed) -> None:
        """Fail a recording that is refused; otherwise let it wait."""
        name = task.endpoint.name
        if error.refused:
            self._fail(
                task, "not_transcribed", f"The transcriber {name!r} refuses the recording: {error}."
            )
            return
        with self._records.writing() as session:
            row = find_transcriber(session, name)
            if row is not None:
                row.error, row.checked_at = str(error), now()
        self._bar("", name, error.pause, row)
        with self._records.writing() as session:
            document = session.get(Document, task.document_key)
            if document is not None and self._is_current(document, task):
                why = f"The transcriber {name!r} is asked again later: {error}."
                states.needs_transcript(document, why)

    def _keep(self, task: _Task, cut: SoundCut, done: Transcribed, started: datetime) -> None:
        """Record a part; after the last, queue the document to be read with its transcript."""
        cues = [_moved(cue, task.start) for cue in done.cues]
        seconds = cut.end - task.start
        with self._records.writing() as session:
            row = find_transcriber(session, task.endpoint.name)
            if row is not None and (row.error is not None or row.checked_at is None):
                row.error, row.checked_at = None, now()
            session.add(
                TranscriptPart(
                    team_id=task.team_id,
                    sha256=task.sha256,
                    transcriber=task.endpoint.name,
                    spoken=task.spoken,
                    start=task.start,
                    end=cut.end,
                    last=cut.last,
                    cues=[[cue.start, cue.end, cue.text, cue.speaker] for cue in cues],
                )
            )
            record_use(
                session,
                TRANSCRIBED,
                team_id=task.team_id,
                kb_id=task.kb_id,
                model=task.endpoint.name,
                price=(0.0, 0.0),
                use=TokenUse(0, 0, counted=True),
                started=started,
                cost=task.price * seconds / 60,
                recorded=seconds,
                origin=origin_of(session, task.document_key, task.revision_id),
            )
            if cut.last:
                self._queue(session, task.document_key, task.revision_id)
            else:
                self._progress(session, replace(task, start=cut.end))

    def _queue(self, session: Session, document_key: int, revision_id: str) -> None:
        document = session.get(Document, document_key)
        if document is None or document.latest_revision_id != revision_id:
            return
        if document.state in _UNTRANSCRIBED:
            retry_document(session, document)

    def _report(self, task: _Task) -> None:
        with self._records.writing() as session:
            self._progress(session, task)

    def _progress(self, session: Session, task: _Task) -> None:
        document = session.get(Document, task.document_key)
        if document is not None and self._is_current(document, task):
            share = min(0.99, task.start / task.duration) if task.duration else 0.0
            states.transcribing(document, share)

    def _is_current(self, document: Document, task: _Task) -> bool:
        return document.state in _UNTRANSCRIBED and document.latest_revision_id == task.revision_id

    def _fail(self, task: _Task, code: str, error: str) -> None:
        with self._records.writing() as session:
            document = session.get(Document, task.document_key)
            if document is not None and self._is_current(document, task):
                states.fail_waiting(document, code, error)
        log.info("recording not transcribed", revision=task.revision_id, error=error)

    def _needs_transcript(self, kb_id: str, problem: str) -> None:
        """Say at all recordings of a knowledge base why nothing becomes of them."""
        unsaid = select(Document).where(
            Document.kb_id == kb_id,
            Document.state.in_(_UNTRANSCRIBED),
            (Document.state != DocumentState.NEEDS_TRANSCRIPT) | (Document.error != problem),
        )
        with self._records.reading() as session:
            if session.scalar(unsaid.limit(1)) is None:
                return
        with self._records.writing() as session:
            for one in session.scalars(unsaid):
                states.needs_transcript(one, problem)

    def _bar(self, team_id: str, name: str, seconds: float, row: Transcriber | None) -> None:
        until = time.monotonic() + seconds
        self._barred[team_id, name] = (until, row.version if row is not None else 0)


def _moved(cue: Cue, by: float) -> Cue:
    return replace(cue, start=round(cue.start + by, 3), end=round(cue.end + by, 3))
