"""Watching a knowledge base: what became of its documents, as it happens, also with a hundred thousand of them."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Sequence

from fastapi import Request
from fastapi.responses import StreamingResponse
from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from fontanel.engine.runtime.watchers import Listener
from fontanel.records.tables import SETTLED, Document, Kb
from fontanel.service.auth.access import Reader
from fontanel.service.out.documents import documents_out
from fontanel.service.out.kbs import kb_out
from fontanel.service.routers import api_router
from fontanel.service.streaming.renewal import OpenStreams, Renewal
from fontanel.service.streaming.sse import sse
from fontanel.service.streaming.turnstile import in_turn

router = api_router("/teams/{team}/kbs", "knowledge bases")

#: Documents that one look tells of; the next look, at once, tells of more.
_MOST = 500
#: How many documents on their way a stream begins with.
_FIRST = 200


@router.get("/{kb}/events", summary="Watch documents move", response_class=StreamingResponse)
async def watch(kb: str, request: Request, access: Reader) -> StreamingResponse:
    """Server-Sent Events: `document` with a document that moved, `removed` with the id of one that is gone, `kb` with the
    whole. The stream begins with documents that are on their way, at most 200. It ends when the caller's access does. A caller can
    have 20 streams open, a team 200."""
    found = access.scope.kb(kb)
    kb_id = found.id
    # Nothing of the records may be in use while a stream is open: there may be hundreds.
    access.session.close()
    streams: OpenStreams = request.app.state.streams
    place = streams.enter(access.caller.id, access.team.id)
    renewed = Renewal(request, access, place)
    return StreamingResponse(
        _changes(renewed, kb_id),
        media_type="text/event-stream",
        headers={"Cache-Control": "no-store"},
    )


async def _changes(renewed: Renewal, kb_id: str) -> AsyncIterator[str]:
    workshop = renewed.access.workshop
    try:
        with (
            workshop.changes.listen(kb_id) as listener,
            workshop.changes.listen_to_access(listener),
        ):
            look = _Look(renewed, kb_id, listener)
            while True:
                listener.woken.clear()
                messages, more = await in_turn(look)
                for message in messages:
                    yield message
                if more is None or workshop.stopping:
                    return
                # Changes come in bursts; a short pause makes one message of many.
                await asyncio.sleep(0.15)
                try:
                    await asyncio.wait_for(
                        listener.woken.wait(), timeout=0 if more else renewed.seconds(15)
                    )
                except TimeoutError:
                    if not more:
                        yield ": still here\n\n"
    finally:
        if renewed.place is not None:
            renewed.place.leave()


class _Look:
    """What changed since the look before, whatever the number of the other documents."""

    def __init__(self, renewed: Renewal, kb_id: str, listener: Listener) -> None:
        self._renewed = renewed
        self._kb_id = kb_id
        self._listener = listener
        #: The newest change reported: its number and its document's key.
        self._upto: tuple[int, int] | None = None

    def __call__(self) -> tuple[list[str], bool | None]:
        """The messages, and whether there are more at once; None: the knowledge base is gone, or the caller's access to it."""
        with self._renewed.access.workshop.sessions() as session:
            narrowed = self._renewed(session)
            kb = (
                None
                if narrowed is None
                else session.scalar(narrowed.scope.select(Kb).where(Kb.id == self._kb_id))
            )
            if narrowed is None or kb is None:
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
        newest = session.scalar(select(func.max(Document.change)).where(here)) or 0
        key = session.scalar(select(func.max(Document.key)).where(here, Document.change == newest))
        self._upto = newest, key or 0
        pending = select(Document).where(here, Document.state.not_in(SETTLED))
        return session.scalars(pending.order_by(Document.change.desc()).limit(_FIRST)).all()

    def _since(self, session: Session) -> Sequence[Document]:
        assert self._upto is not None
        change, key = self._upto
        later = or_(Document.change > change, Document.key > key)
        query = select(Document).where(
            Document.kb_id == self._kb_id, Document.change >= change, later
        )
        found = session.scalars(query.order_by(Document.change, Document.key).limit(_MOST)).all()
        if found:
            self._upto = found[-1].change, found[-1].key
        return found
