"""Watching a knowledge base: what becomes of its documents, as it happens.

A stream costs as much in a knowledge base of a hundred documents as in one of a hundred thousand:
it reads only the documents that changed since it was last woken, by an index.
"""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator, Sequence
from dataclasses import dataclass, field

from fastapi import Request
from fastapi.responses import StreamingResponse
from fastapi.sse import format_sse_event
from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from fontanel.engine.quotas.limits import limits_of
from fontanel.engine.runtime.watchers import Watcher
from fontanel.records.tables import SETTLED_STATES, Document, Kb
from fontanel.service.auth.access import Access, Reader
from fontanel.service.out.documents import documents_out
from fontanel.service.out.kbs import kb_out, open_proposals
from fontanel.service.routers import api_router
from fontanel.service.streaming.renewal import OpenStreams, Renewal
from fontanel.service.streaming.sse import KEEP_ALIVE, STREAM_HEADERS, event_text
from fontanel.service.threads import run_briefly

router = api_router("/teams/{team}/kbs", "knowledge bases")

#: Documents that are reported at once; further ones follow immediately.
_MAX_REPORTED = 500
#: Unfinished documents that a stream begins with.
_MAX_FIRST = 200
#: Seconds in which changes are collected, since they come in bursts.
_BURST = 0.15
_KEEP_ALIVE_SECONDS = 15.0


@router.get("/{kb}/events", summary="Watch documents change", response_class=StreamingResponse)
async def watch(kb: str, request: Request, access: Reader) -> StreamingResponse:
    """Server-Sent Events of documents and of the knowledge base.

    `document` has a changed document, `removed` a deleted one's id, `kb` the knowledge base. The
    stream begins with unfinished documents, at most 200, and ends with the caller's access. A
    caller can have 20 streams open, a team as many as its quota allows, by default 200.
    """
    kb_id, max_of_team = await run_briefly(_kb_and_limit, access, kb)
    streams: OpenStreams = request.app.state.streams
    place = streams.enter(access.caller.id, access.team.id, max_of_team)
    renewal = Renewal(request, access, place)
    return StreamingResponse(
        _events(renewal, kb_id), media_type="text/event-stream", headers=STREAM_HEADERS
    )


def _kb_and_limit(access: Access, ref: str) -> tuple[str, int | None]:
    with access.reading() as reading:
        limits = limits_of(reading.session, access.team)
        return reading.scope.kb(ref).id, limits["streams"]


async def _events(renewal: Renewal, kb_id: str) -> AsyncIterator[bytes | str]:
    runtime = renewal.access.runtime
    try:
        with runtime.watchers.watch(kb_id) as watcher, runtime.watchers.watch_access(watcher):
            changes = _Changes(renewal, kb_id, watcher)
            while True:
                watcher.changed.clear()
                batch = await run_briefly(changes.read)
                for text in batch.events:
                    yield text
                if batch.ended or runtime.stopping:
                    return
                await asyncio.sleep(_BURST)
                limit = 0 if batch.more else renewal.seconds(_KEEP_ALIVE_SECONDS)
                try:
                    await asyncio.wait_for(watcher.changed.wait(), timeout=limit)
                except TimeoutError:
                    if not batch.more:
                        yield KEEP_ALIVE
    finally:
        renewal.leave()


@dataclass(frozen=True, slots=True)
class _Batch:
    """The events to send.

    `more` follow immediately; `ended`: the access or kb is gone.
    """

    events: list[bytes | str] = field(default_factory=list)
    more: bool = False
    ended: bool = False


class _Changes:
    """Reads what changed since it was last called."""

    def __init__(self, renewal: Renewal, kb_id: str, watcher: Watcher) -> None:
        self._renewal = renewal
        self._kb_id = kb_id
        self._watcher = watcher
        #: The newest change that was reported: its number and its document's key.
        self._last: tuple[int, int] | None = None
        #: The version and the open proposals of the knowledge base that were reported last.
        self._shown: tuple[int, int] | None = None

    def read(self) -> _Batch:
        """Return the events of what changed."""
        with self._renewal.access.runtime.records.reading() as session:
            access = self._renewal.renewed(session)
            if access is None:
                return _Batch(ended=True)
            kb = session.scalar(access.scope.select(Kb).where(Kb.id == self._kb_id))
            if kb is None:
                return _Batch(ended=True)
            first = self._last is None
            deleted = self._watcher.take_deleted()
            documents = self._first(session) if first else self._since(session)
            events: list[bytes | str] = [
                event_text("document", out) for out in documents_out(session, documents)
            ]
            events += [
                format_sse_event(event="removed", data_str=json.dumps({"id": document_id}))
                for document_id in deleted
            ]
            shown = kb.version, open_proposals(session, kb.id)
            if events or shown != self._shown:
                events.append(event_text("kb", kb_out(access, kb)))
                self._shown = shown
            return _Batch(events, more=len(documents) == _MAX_REPORTED)

    def _first(self, session: Session) -> Sequence[Document]:
        here = Document.kb_id == self._kb_id
        newest = session.scalar(select(func.max(Document.change)).where(here)) or 0
        key = session.scalar(select(func.max(Document.key)).where(here, Document.change == newest))
        self._last = newest, key or 0
        unfinished = select(Document).where(here, Document.state.not_in(SETTLED_STATES))
        newest_first = unfinished.order_by(Document.change.desc())
        return session.scalars(newest_first.limit(_MAX_FIRST)).all()

    def _since(self, session: Session) -> Sequence[Document]:
        assert self._last is not None
        change, key = self._last
        later = or_(Document.change > change, Document.key > key)
        query = select(Document).where(
            Document.kb_id == self._kb_id, Document.change >= change, later
        )
        in_order = query.order_by(Document.change, Document.key)
        documents = session.scalars(in_order.limit(_MAX_REPORTED)).all()
        if documents:
            self._last = documents[-1].change, documents[-1].key
        return documents
