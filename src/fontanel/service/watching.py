"""Watching a knowledge base: what became of its documents, as it happens, also with a hundred thousand of them."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Sequence
from datetime import UTC, datetime

from fastapi.responses import StreamingResponse
from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from fontanel.records.tables import SETTLED, Document, Kb
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
    """What is to be told since the look before: the documents that changed since, whatever the number of the others."""

    def __init__(self, access: Access, kb_id: str, listener: Listener) -> None:
        self._access = access
        self._kb_id = kb_id
        self._listener = listener
        #: The newest change told: its time and its document's key. Changes are written one transaction after the other.
        self._upto: tuple[datetime, int] | None = None

    def __call__(self) -> tuple[list[str], bool | None]:
        """The messages, and whether there are more at once; None: the knowledge base is gone."""
        with self._access.workshop.sessions() as session:
            narrowed = self._access.within(session)
            kb = session.scalar(narrowed.scope.select(Kb).where(Kb.id == self._kb_id))
            if kb is None:
                return [], None
            first = self._upto is None
            gone = self._listener.take_gone()
            found = self._first(session) if first else self._since(session)
            messages = [sse("document", out) for out in documents_out(session, found)]
            messages += [f'event: removed\ndata: {{"id": "{document}"}}\n\n' for document in gone]
            if messages or first:
                messages.append(sse("kb", kb_out(narrowed, kb)))
            return messages, len(found) == _MOST

    def _first(self, session: Session) -> Sequence[Document]:
        here = Document.kb_id == self._kb_id
        newest: datetime | None = session.scalar(select(func.max(Document.changed_at)).where(here))
        newest = newest or datetime.min.replace(tzinfo=UTC)
        key = session.scalar(select(func.max(Document.key)).where(here, Document.changed_at == newest))
        self._upto = newest, key or 0
        pending = select(Document).where(here, Document.state.not_in(SETTLED))
        return session.scalars(pending.order_by(Document.changed_at.desc()).limit(_FIRST)).all()

    def _since(self, session: Session) -> Sequence[Document]:
        assert self._upto is not None
        at, key = self._upto
        later = or_(Document.changed_at > at, Document.key > key)
        query = select(Document).where(Document.kb_id == self._kb_id, Document.changed_at >= at, later)
        found = session.scalars(query.order_by(Document.changed_at, Document.key).limit(_MOST)).all()
        if found:
            self._upto = found[-1].changed_at, found[-1].key
        return found
