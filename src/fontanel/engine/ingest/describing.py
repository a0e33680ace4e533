"""Describing documents with a model, one after the other, once they are indexed.

A description is a field of every passage with a low weight, so passages are rewritten with it, in
one transaction and with their existing vectors: searches always see them. If a model fails, the
built-in description stays; if a knowledge base no longer has a model, it returns.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import partial

import structlog
from sqlalchemy import delete, exists, func, or_, select
from sqlalchemy.orm import Session

from fontanel.core.answering import TokenUse, WriterFailed
from fontanel.core.describing.by_model import (
    MAX_TOKENS,
    DescriptionUnusable,
    description_request,
    taken_description,
)
from fontanel.core.describing.extractive import About, describe
from fontanel.core.embedding.encoder import text_key
from fontanel.core.index import WordsSegment
from fontanel.core.passages.fields import words_entry
from fontanel.core.reading.model import Reading
from fontanel.core.text.analysis import Analyser
from fontanel.engine.answering.background import DESCRIBED, Price, background_model, record_use
from fontanel.engine.documents.origin import origin_of
from fontanel.engine.documents.readings import load_reading
from fontanel.engine.editions.store import Editions
from fontanel.engine.ingest.passages import (
    embedded_passages,
    insert_passages,
    passage_of,
    retire_passages,
    write_vectors,
)
from fontanel.engine.runtime.fault_points import fault
from fontanel.errors import ModelUnusable, SecretUnreadable
from fontanel.llm import AskerLeft, ChatWriter, Endpoint, ModelClient
from fontanel.records.blobs import BlobStore
from fontanel.records.tables import (
    SETTLED_STATES,
    Description,
    Document,
    DocumentState,
    Edition,
    Kb,
    PassageRow,
    Revision,
    now,
)
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault
from fontanel.records.vector_cache import VectorCache

log = structlog.get_logger()

_COLUMNS = [column.key for column in PassageRow.__table__.columns if column.key != "id"]

#: How many attempts a model gets per revision, and the first pause in seconds, which doubles.
_MAX_TRIES = 5
_PAUSE = 30.0
#: Revisions that are found at once.
_BATCH = 100
#: Seconds between two looks when nothing waits.
_QUIET = 2.0
#: Seconds between checks whether a team may use its model and has tokens left.
_LOOK_AGAIN = 300.0


@dataclass(frozen=True, slots=True)
class _Described:
    """A revision that gets a description."""

    revision_id: str
    document_key: int
    kb_id: str
    team_id: str
    reading: str


@dataclass(frozen=True, slots=True)
class _Task(_Described):
    """A task, with the model to write it."""

    model: str
    endpoint: Endpoint
    price: Price
    tries: int


class Describing:
    """Lets models describe documents, in a thread of the runtime."""

    def __init__(
        self,
        *,
        records: Records,
        blobs: BlobStore,
        vectors: VectorCache,
        editions: Editions,
        models: ModelClient,
        vault: Vault,
        stopping: threading.Event,
    ) -> None:
        self._records = records
        self._blobs = blobs
        self._vectors = vectors
        self._editions = editions
        self._models = models
        self._vault = vault
        self._stopping = stopping
        #: Team and model -> when to look again whether they may.
        self._barred: dict[tuple[str, str], datetime] = {}
        self._quiet_until = 0.0
        #: Revisions that wait, the first at the end.
        self._batch: list[str] = []
        #: Knowledge base -> its last change when nothing was waiting.
        self._done: dict[str, tuple[str, datetime | None]] = {}

    def describe_next(self) -> bool:
        """Describe one document that waits for it; return whether there was one."""
        if time.monotonic() < self._quiet_until:
            return False
        if task := self._next():
            return self._ask(task)
        if result := self._left_over():
            forget = partial(_forget, revision_id=result.revision_id)
            if result.reading:
                self._take(result, describe(self._reading(result)), None, forget)
            else:
                with self._records.writing() as session:
                    forget(session)
            return True
        self._quiet_until = time.monotonic() + _QUIET
        return False

    def _reading(self, target: _Described) -> Reading:
        return load_reading(self._blobs, target.reading)

    def _ask(self, task: _Task) -> bool:
        reading = self._reading(task)
        writer = ChatWriter(self._models, task.endpoint, self._stopping)
        started = now()
        try:
            written = "".join(writer.write(description_request(reading), MAX_TOKENS, 0.0))
            about = taken_description(written, reading)
        except AskerLeft:
            return False  # the service stops; the model is asked again after its next start
        except (WriterFailed, DescriptionUnusable) as error:
            # A bad description would be repeated; a server that is down will recover.
            again = isinstance(error, WriterFailed) and task.tries + 1 < _MAX_TRIES
            pause = timedelta(seconds=_PAUSE * 2**task.tries)
            self._note(task, str(error), now() + pause if again else None, writer.use(), started)
            log.info(
                "document not described",
                revision=task.revision_id,
                model=task.model,
                error=str(error),
            )
        else:
            keep = partial(
                self._keep,
                task=task,
                about=about,
                error=None,
                again_at=None,
                use=writer.use(),
                started=started,
            )
            self._take(task, about, task.model, keep)
        return True

    def _next(self) -> _Task | None:
        """The longest waiting revision of a kb that has a model for it."""
        moment = now()
        barred = {kb for kb, until in self._barred.items() if until > moment}
        waiting = (
            select(Revision, Document, Kb, Description)
            .join(Document, Document.revision_id == Revision.id)
            .join(Kb, Kb.id == Document.kb_id)
            .outerjoin(Description, Description.revision_id == Revision.id)
            .where(
                Kb.describer.is_not(None),
                Revision.reading.is_not(None),
                Document.state == DocumentState.INDEXED,
            )
            .where(Revision.passages > 0)
            .where(
                or_(
                    Description.revision_id.is_(None),
                    Description.model != Kb.describer,
                    Description.again_at <= moment,
                )
            )
        )
        for team_id, model in barred:
            waiting = waiting.where(or_(Kb.team_id != team_id, Kb.describer != model))
        with self._records.reading() as session:
            result = None
            while result is None:
                if not self._batch:
                    marks = self._marks(session, moment, barred)
                    some = waiting.with_only_columns(Revision.id).where(Document.kb_id.in_(marks))
                    ids = session.scalars(
                        some.order_by(Revision.created_at, Revision.id).limit(_BATCH)
                    ).all()
                    if not ids:
                        self._done |= marks
                        return None
                    self._batch = list(reversed(ids))
                result = session.execute(waiting.where(Revision.id == self._batch.pop())).first()
            revision, document, kb, before = result.tuple()
            assert kb.describer is not None
            assert revision.reading is not None
            try:
                endpoint, price = background_model(session, self._vault, kb.team_id, kb.describer)
            except (ModelUnusable, SecretUnreadable) as error:
                self._barred[kb.team_id, kb.describer] = moment + timedelta(seconds=_LOOK_AGAIN)
                log.info(
                    "documents wait for a description",
                    kb=kb.id,
                    model=kb.describer,
                    error=str(error),
                )
                return None
            tries = before.tries if before is not None and before.model == kb.describer else 0
            return _Task(
                revision.id,
                document.key,
                kb.id,
                kb.team_id,
                revision.reading,
                kb.describer,
                endpoint,
                price,
                tries,
            )

    def _marks(
        self, session: Session, moment: datetime, barred: set[tuple[str, str]]
    ) -> dict[str, tuple[str, datetime | None]]:
        """Return the knowledge bases that may have work: their model and last change.

        Searching all documents of the others each time would cost more than describing.
        """
        results: dict[str, tuple[str, datetime | None]] = {}
        for kb in session.scalars(select(Kb).where(Kb.describer.is_not(None))):
            assert kb.describer is not None
            newest: datetime | None = session.scalar(
                select(func.max(Document.changed_at)).where(Document.kb_id == kb.id)
            )
            due = exists().where(Description.kb_id == kb.id, Description.again_at <= moment)
            changed = self._done.get(kb.id) != (kb.describer, newest) or session.scalar(select(due))
            if changed and (kb.team_id, kb.describer) not in barred:
                results[kb.id] = (kb.describer, newest)
        return results

    def _left_over(self) -> _Described | None:
        """A described revision in a knowledge base that no longer has a model.

        Its reading is empty if its document does not show the description.
        """
        without = select(Kb.id).where(Kb.describer.is_(None))
        asked_about = (
            select(Revision, Document)
            .join(Description, Description.revision_id == Revision.id)
            .join(Document, Document.key == Revision.document_key)
            .where(Description.kb_id.in_(without))
            .where(Document.state.in_(SETTLED_STATES))
        )
        with self._records.reading() as session:
            result = session.execute(asked_about.limit(1)).first()
            if result is None:
                return None
            revision, document = result.tuple()
            shown = document.revision_id == revision.id and document.described_by is not None
            reading = revision.reading if shown and revision.reading else ""
            return _Described(revision.id, document.key, document.kb_id, document.team_id, reading)

    def _note(
        self,
        task: _Task,
        error: str,
        again_at: datetime | None,
        use: TokenUse | None,
        started: datetime,
    ) -> None:
        with self._records.writing() as session:
            self._keep(session, task, About("", ""), error, again_at, use, started)

    def _take(
        self, task: _Described, about: About, by: str | None, keep: Callable[[Session], None]
    ) -> None:
        """Rewrite the document's passages in every edition, with the description.

        In one transaction with what `keep` does: after a crash, all of it is done again.
        """
        with self._records.reading() as session:
            active = session.scalar(select(Kb.edition_id).where(Kb.id == task.kb_id))
            standby = select(Edition.id).where(Edition.kb_id == task.kb_id, Edition.id != active)
            editions = session.scalars(standby).all()
        for edition_id in editions:
            with self._editions.writer(edition_id), self._records.writing() as session:
                self._write_again(session, edition_id, task, about)
        if active is None:
            return  # the knowledge base is gone
        with self._editions.writer(active), self._records.writing() as session:
            document = session.get(Document, task.document_key)
            if document is not None and document.revision_id == task.revision_id:
                document.description, document.described_by = about.description, by
                document.title = about.title or document.title
                document.version += 1
            self._write_again(session, active, task, about)
            fault("description_written")
            keep(session)

    def _keep(
        self,
        session: Session,
        task: _Task,
        about: About,
        error: str | None,
        again_at: datetime | None,
        use: TokenUse | None,
        started: datetime,
    ) -> None:
        if session.get(Revision, task.revision_id) is None:
            return
        session.merge(
            Description(
                revision_id=task.revision_id,
                team_id=task.team_id,
                kb_id=task.kb_id,
                model=task.model,
                title=about.title,
                description=about.description,
                error=error,
                tries=task.tries + 1,
                again_at=again_at,
                at=now(),
            )
        )
        record_use(
            session,
            DESCRIBED,
            team_id=task.team_id,
            kb_id=task.kb_id,
            model=task.model,
            price=task.price,
            use=use,
            started=started,
            origin=origin_of(session, task.document_key, task.revision_id),
        )

    def _write_again(
        self, session: Session, edition_id: str, task: _Described, about: About
    ) -> None:
        """Replace a document's passages, keeping their vectors.

        Within the caller's transaction.
        """
        edition, document = (
            session.get(Edition, edition_id),
            session.get(Document, task.document_key),
        )
        if edition is None or document is None or document.revision_id != task.revision_id:
            return  # a newer revision gets a description of its own
        stored = embedded_passages(session, edition, task.revision_id)
        embedder = edition.embedder
        keys = (
            [[text_key(embedder, text) for text in texts] for _, texts in stored]
            if embedder
            else []
        )
        requested = {key for one in keys for key in one}
        if not stored or len(self._vectors.get(task.team_id, list(requested))) < len(requested):
            return  # an edition that is being built takes the description when it gets there
        of_document = (
            PassageRow.edition_id == edition_id,
            PassageRow.revision_id == task.revision_id,
        )
        rows = session.scalars(
            select(PassageRow).where(*of_document).order_by(PassageRow.ordinal)
        ).all()
        copies = [{name: getattr(row, name) for name in _COLUMNS} for row in rows]
        language = session.get_one(Revision, task.revision_id).language or "en"
        retire_passages(session, edition_id, document)
        ids = insert_passages(session, copies)
        analyser = Analyser(language)
        title = about.title or document.title
        entries = [
            words_entry(key, document.key, title, passage_of(row), analyser, about.description)
            for key, row in zip(ids, copies, strict=True)
        ]
        averages = self._editions.averages(edition_id)
        self._editions.write(session, edition, WordsSegment.build(entries, [language], averages))
        if keys:
            write_vectors(
                self._editions, self._vectors, session, edition, list(zip(ids, keys, strict=True))
            )


def _forget(session: Session, revision_id: str) -> None:
    """Forget a model's description; a new model starts from scratch."""
    session.execute(delete(Description).where(Description.revision_id == revision_id))
