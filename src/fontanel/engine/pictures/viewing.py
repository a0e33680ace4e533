"""Has models describe the pictures of documents, and the documents read again with that."""

from __future__ import annotations

import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import structlog
from sqlalchemy import Select, func, or_, select
from sqlalchemy.orm import Session

from fontanel.core.answering import TokenUse, WriterFailed
from fontanel.core.describing.by_model import DescriptionUnusable
from fontanel.core.describing.pictures import MAX_TOKENS, picture_request, taken_picture
from fontanel.engine.answering.background import VIEWED, Price, background_model, record_use
from fontanel.engine.documents import states
from fontanel.engine.documents.documents import retry_document
from fontanel.engine.documents.origin import origin_of
from fontanel.engine.documents.states import NEEDS_DESCRIPTION
from fontanel.engine.pictures.found import waiting_pictures
from fontanel.engine.runtime.fault_points import fault
from fontanel.engine.workers.framing import Failed
from fontanel.engine.workers.messages import PicturesTaken, TakePictures
from fontanel.engine.workers.processes import Worker, WorkerDied
from fontanel.errors import ModelUnusable, SecretUnreadable
from fontanel.facts import DocumentState
from fontanel.llm import AskerLeft, ChatWriter, Endpoint, ModelClient
from fontanel.records.blobs import BlobStore
from fontanel.records.tables import Document, Kb, PictureDescription, Revision, RevisionPicture, now
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault

log = structlog.get_logger()

#: How many attempts a model gets per picture, and the first pause in seconds, which doubles.
_MAX_TRIES, _PAUSE = 5, 30.0
#: Seconds between two looks when nothing waits, and between checks of a model that cannot be used.
_QUIET, _LOOK_AGAIN = 2.0, 30.0
#: Seconds that taking the pictures out of a document may take.
_TAKE_SECONDS = 300.0
_UNDRAWN = "the picture cannot be drawn"
_SEEN = (DocumentState.INDEXED, DocumentState.DESCRIBING)


@dataclass(frozen=True, slots=True)
class _Task:
    """A document with a picture to describe, or to be read again if there is none left."""

    document_key: int
    revision_id: str
    team_id: str
    kb_id: str
    sha256: str
    media_type: str
    model: str
    pictures: list[str]
    """The pictures that are waiting."""
    max_pictures: int


class Viewing:
    """Describes pictures, those of each knowledge base in turn, in a thread of the runtime."""

    def __init__(
        self,
        *,
        records: Records,
        blobs: BlobStore,
        models: ModelClient,
        vault: Vault,
        worker: Worker,
        stopping: threading.Event,
    ) -> None:
        self._records = records
        self._blobs = blobs
        self._models = models
        self._vault = vault
        self._worker = worker
        self._stopping = stopping
        self._last_kb = ""
        self._quiet_until = 0.0
        #: Knowledge base -> its model, limit and last change when nothing was waiting.
        self._done: dict[str, tuple[str | None, int, datetime | None]] = {}
        #: Team and model -> when to look again whether they may.
        self._barred: dict[tuple[str, str], float] = {}

    def view_next(self) -> bool:
        """Describe one picture; return whether one was waiting."""
        if time.monotonic() < self._quiet_until:
            return False
        task = self._next()
        if task is None:
            self._quiet_until = time.monotonic() + _QUIET
            return False
        if not task.pictures:
            self._read_again(task)
            return True
        try:
            with self._records.reading() as session:
                endpoint, price = background_model(session, self._vault, task.team_id, task.model)
        except (ModelUnusable, SecretUnreadable) as error:
            self._barred[task.team_id, task.model] = time.monotonic() + _LOOK_AGAIN
            self._report(task, f"The model {task.model!r} cannot be asked: {error}.")
            log.info("pictures wait for a description", kb=task.kb_id, error=str(error))
            return True
        row = self._picture(task)
        if row is not None:
            self._ask(task, row, endpoint, price)
        return True

    def _next(self) -> _Task | None:
        """Return the next task, of the knowledge base after the last one."""
        moment = time.monotonic()
        with self._records.reading() as session:
            kbs = session.scalars(select(Kb).where(Kb.viewer.is_not(None)).order_by(Kb.id)).all()
            later = [kb for kb in kbs if kb.id > self._last_kb]
            for kb in [*later, *(kb for kb in kbs if kb.id <= self._last_kb)]:
                if self._barred.get((kb.team_id, str(kb.viewer)), 0.0) > moment:
                    continue
                newest = session.scalar(
                    select(func.max(Document.changed_at)).where(Document.kb_id == kb.id)
                )
                mark = (kb.viewer, kb.max_pictures, newest)
                if self._done.get(kb.id) == mark:
                    continue
                task, waits = self._task_of(session, kb)
                if task is not None:
                    self._last_kb = kb.id
                    return task
                if not waits:
                    self._done[kb.id] = mark
        return None

    def _task_of(self, session: Session, kb: Kb) -> tuple[_Task | None, bool]:
        """Return the first document with something to do, and whether others wait for later."""
        waits = False
        for document, revision in session.execute(_unviewed(kb)).tuples():
            waiting = waiting_pictures(session, kb, revision.id)
            shas = list(dict.fromkeys(one.sha256 for one in waiting))
            due = [sha for sha in shas if _is_due(session, kb, sha)]
            if shas and not due:
                waits = True
                continue
            task = _Task(
                document.key,
                revision.id,
                kb.team_id,
                kb.id,
                revision.sha256,
                revision.media_type or "",
                kb.viewer or "",
                due,
                kb.max_pictures,
            )
            return task, waits
        return None, waits

    def _picture(self, task: _Task) -> PictureDescription | None:
        """Return the row of the first picture, taking those that wait out of their document."""
        rows = self._rows(task)
        missing = [sha for sha in task.pictures if sha not in rows]
        if missing:
            self._take(task, missing)
            rows = self._rows(task)
        due = [rows[sha] for sha in task.pictures if sha in rows and rows[sha].blob is not None]
        return due[0] if due else None

    def _rows(self, task: _Task) -> dict[str, PictureDescription]:
        with self._records.reading() as session:
            found = session.scalars(
                select(PictureDescription).where(
                    PictureDescription.team_id == task.team_id,
                    PictureDescription.model == task.model,
                    PictureDescription.sha256.in_(task.pictures),
                )
            )
            return {row.sha256: row for row in found}

    def _take(self, task: _Task, shas: Sequence[str]) -> None:
        """Take pictures out of their document, and store them."""
        parts: list[bytes] = []
        request = TakePictures(
            path=str(self._blobs.path(task.sha256)), media_type=task.media_type, pictures=list(shas)
        )
        try:
            reply = self._worker.read(request, _TAKE_SECONDS, on_attached=parts.append)
        except WorkerDied:
            reply = Failed(code="damaged", error=_UNDRAWN)
        names = [] if isinstance(reply, Failed) else [one.name for one in _taken(reply).files]
        blobs = {name: self._blobs.put([part])[0] for name, part in zip(names, parts, strict=True)}
        with self._records.writing() as session:
            for sha in shas:
                blob = blobs.get(sha)
                session.add(
                    PictureDescription(
                        team_id=task.team_id,
                        sha256=sha,
                        model=task.model,
                        blob=blob,
                        error=None if blob is not None else _UNDRAWN,
                        again_at=now() if blob is not None else None,
                    )
                )

    def _ask(self, task: _Task, row: PictureDescription, endpoint: Endpoint, price: Price) -> None:
        assert row.blob is not None
        picture = self._blobs.path(row.blob).read_bytes()
        writer = ChatWriter(self._models, endpoint, self._stopping)
        started = now()
        description = text = ""
        error, again = None, False
        try:
            written = "".join(writer.write(picture_request(picture), MAX_TOKENS, 0.0))
            description, text = taken_picture(written)
        except AskerLeft:
            return  # the service stops; the model is asked again after its next start
        except (WriterFailed, DescriptionUnusable) as failed:
            # A bad description would be repeated; a server that is down will recover.
            error = str(failed)
            again = isinstance(failed, WriterFailed) and row.tries + 1 < _MAX_TRIES
        fault("picture_described")
        pause = timedelta(seconds=_PAUSE * 2**row.tries)
        self._keep(
            task, row, description, text, error, now() + pause if again else None, writer.use(),
            started, price,
        )  # fmt: skip

    def _keep(
        self,
        task: _Task,
        row: PictureDescription,
        description: str,
        text: str,
        error: str | None,
        again_at: datetime | None,
        use: TokenUse | None,
        started: datetime,
        price: Price,
    ) -> None:
        """Record what a model said about a picture, or why it did not."""
        with self._records.writing() as session:
            stored = session.get(PictureDescription, row.key)
            if stored is not None:
                stored.description, stored.text, stored.error = description, text, error
                stored.tries, stored.again_at, stored.at = row.tries + 1, again_at, now()
            record_use(
                session,
                VIEWED,
                team_id=task.team_id,
                kb_id=task.kb_id,
                model=task.model,
                price=price,
                use=use,
                started=started,
                origin=origin_of(session, task.document_key, task.revision_id),
            )
            document = session.get(Document, task.document_key)
            if document is None or not _has_no_text(document):
                return
            if again_at is None:
                share = 1 - len(task.pictures) / max(1, task.max_pictures)
                states.describing(document, max(0.0, share))
            else:
                why = f"The model {task.model!r} is asked again later: {error}."
                states.fail_waiting(document, NEEDS_DESCRIPTION, why)

    def _report(self, task: _Task, why: str) -> None:
        """Tell people who wait for a document without text why nothing becomes of it."""
        with self._records.reading() as session:
            document = session.get(Document, task.document_key)
            if document is None or not _has_no_text(document) or document.error == why:
                return
        with self._records.writing() as session:
            document = session.get(Document, task.document_key)
            if document is not None and _has_no_text(document):
                states.fail_waiting(document, NEEDS_DESCRIPTION, why)

    def _read_again(self, task: _Task) -> None:
        """Queue a document whose pictures are settled, or whose model was taken away."""
        with self._records.writing() as session:
            document = session.get(Document, task.document_key)
            if document is None or document.latest_revision_id != task.revision_id:
                return
            if document.state in _SEEN or _has_no_text(document):
                retry_document(session, document)


def _taken(reply: object) -> PicturesTaken:
    assert isinstance(reply, PicturesTaken)
    return reply


def _has_no_text(document: Document) -> bool:
    """Return whether a document waits for descriptions, without which it has no text."""
    return document.state == DocumentState.DESCRIBING or document.error_code == NEEDS_DESCRIPTION


def _unviewed(kb: Kb) -> Select[Document, Revision]:
    """Return documents whose text lacks descriptions, or has those of another model."""
    have = select(RevisionPicture.revision_id).where(RevisionPicture.kb_id == kb.id)
    return (
        select(Document, Revision)
        .join(Revision, Revision.id == Document.latest_revision_id)
        .where(
            Document.kb_id == kb.id,
            or_(Document.state.in_(_SEEN), Document.error_code == NEEDS_DESCRIPTION),
            Revision.id.in_(have),
            or_(Revision.viewed_by.is_(None), Revision.viewed_by != kb.viewer),
        )
        .order_by(Document.key)
        .execution_options(yield_per=16)
    )


def _is_due(session: Session, kb: Kb, sha256: str) -> bool:
    again_at = session.execute(
        select(PictureDescription.again_at).where(
            PictureDescription.team_id == kb.team_id,
            PictureDescription.sha256 == sha256,
            PictureDescription.model == kb.viewer,
        )
    ).first()
    return again_at is None or again_at[0] is None or again_at[0] <= now()
