"""Watching a knowledge base: what became of its documents, as it happens, also with a hundred thousand of them."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterable
from datetime import UTC, datetime

from fastapi.responses import StreamingResponse
from sqlalchemy import and_, func, or_, select
from sqlalchemy.orm import Session

from fontanel.records.tables import Document, DocumentState, Kb
from fontanel.service.access import Access, Reader
from fontanel.service.documents import documents_out
from fontanel.service.events import sse
from fontanel.service.kbs import kb_out
from fontanel.service.routers import api_router
from fontanel.work.changes import Listener

router = api_router("/teams/{team}/kbs", "knowledge bases")

#: Documents that one look tells of; the next look, at once, tells of more.
_MOST = 500
#: How many documents on their way a stream begins with.
_FIRST = 200

#: Those whose progress moves without the document being changed. What waits for vectors, and none has come, does not move.
_MOVING = or_(
    Document.state.in_((DocumentState.READING, DocumentState.SPLITTING)),
    and_(Document.state == DocumentState.INDEXED_BY_WORDS, Document.progress > 0),
)
_SETTLED = (DocumentState.INDEXED, DocumentState.FAILED, DocumentState.REMOVED)


@router.get("/{kb}/events", summary="Watch documents move", response_class=StreamingResponse)
async def watch(kb: str, access: Reader) -> StreamingResponse:
    """Server-Sent Events: `document` with a document that moved, `removed` with the id of one that is gone, `kb` with the
    whole. The stream begins with documents that are on their way, at most 200."""
    found = access.scope.kb(kb)
    kb_id = found.id
    access.session.rollback()
    return StreamingResponse(
        _changes(access, kb_id), media_type="text/event-stream", headers={"Cache-Control": "no-store"}
    )


async def _changes(access: Access, kb_id: str) -> AsyncIterator[str]:
    with access.workshop.changes.listen(kb_id) as listener:
        look = _Look(access, kb_id, listener)
        while True:
            listener.woken.clear()
            messages, more = await asyncio.to_thread(look)
            for message in messages:
                yield message
            if more is None or access.workshop.stopping:
                return
            # Changes come in bursts; a short pause makes one message of many.
            await asyncio.sleep(0.15)
            try:
                await asyncio.wait_for(listener.woken.wait(), timeout=0 if more else 15)
            except TimeoutError:
                if not more:
                    yield ": still here\n\n"


class _Look:
    """What is to be told since the look before. Each reads the documents that changed since, and those that were moving then or
    are now, whatever the number of the others."""

    def __init__(self, access: Access, kb_id: str, listener: Listener) -> None:
        self._access = access
        self._kb_id = kb_id
        self._listener = listener
        #: The newest change told: its time and its document's key. Changes are written one transaction after the other.
        self._upto: tuple[datetime, int] | None = None
        #: Documents that moved when last looked at, and what was told of them.
        self._moving: dict[int, tuple[str, float | None]] = {}

    def __call__(self) -> tuple[list[str], bool | None]:
        """The messages, and whether there are more at once; None: the knowledge base is gone."""
        with self._access.workshop.sessions() as session:
            narrowed = self._access.within(session)
            kb = session.scalar(narrowed.scope.select(Kb).where(Kb.id == self._kb_id))
            if kb is None:
                return [], None
            first = self._upto is None
            gone = self._listener.take_gone()
            found, more = self._first(session) if first else self._since(session)
            messages = [sse("document", out) for out in documents_out(session, found)]
            messages += [f'event: removed\ndata: {{"id": "{document}"}}\n\n' for document in gone]
            if messages or first:
                messages.append(sse("kb", kb_out(narrowed, kb)))
            return messages, more

    def _first(self, session: Session) -> tuple[list[Document], bool]:
        here = Document.kb_id == self._kb_id
        newest: datetime | None = session.scalar(select(func.max(Document.changed_at)).where(here))
        newest = newest or datetime.min.replace(tzinfo=UTC)
        key = session.scalar(select(func.max(Document.key)).where(here, Document.changed_at == newest))
        self._upto = newest, key or 0
        pending = select(Document).where(here, Document.state.not_in(_SETTLED))
        found = list(session.scalars(pending.where(_MOVING).limit(_FIRST)))
        self._note(found)
        return list(dict.fromkeys([*found, *session.scalars(pending.limit(_FIRST))]))[:_FIRST], False

    def _since(self, session: Session) -> tuple[list[Document], bool]:
        assert self._upto is not None
        here = Document.kb_id == self._kb_id
        at, key = self._upto
        after = or_(Document.changed_at > at, Document.key > key)
        later = select(Document).where(here, Document.changed_at >= at, after)
        changed = session.scalars(later.order_by(Document.changed_at, Document.key).limit(_MOST)).all()
        if changed:
            self._upto = changed[-1].changed_at, changed[-1].key
        before = self._moving
        moving = session.scalars(select(Document).where(here, _MOVING).limit(_MOST)).all()
        stopped = before.keys() - {document.key for document in moving}
        moved = [*moving, *session.scalars(select(Document).where(Document.key.in_(stopped)))]
        self._note(moving)
        told = [document for document in moved if before.get(document.key) != (document.state, document.progress)]
        return list(dict.fromkeys([*changed, *told])), len(changed) == _MOST

    def _note(self, moving: Iterable[Document]) -> None:
        self._moving = {document.key: (document.state, document.progress) for document in moving}
