"""Sending answers, made in threads of their own, as a JSON body or as events.

An answer waits for a model most of its time and must not keep other requests waiting. When the
asker leaves, or the service stops, `cancelled` is set: the model's call is cancelled, and the turn
is recorded as stopped.
"""

from __future__ import annotations

import asyncio
import hashlib
import threading
from collections.abc import AsyncIterator, Callable, Generator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

import structlog
from fastapi import Request, Response
from fastapi.responses import StreamingResponse
from pydantic import BaseModel

from fontanel import tracing
from fontanel.core.answering import (
    AnswerEvent,
    CitationBound,
    EvidenceFound,
    Restarted,
    Started,
    StatementChecked,
    TextPiece,
)
from fontanel.engine.answering.asking import Asking, Began, Recorded
from fontanel.engine.answering.turn_records import StoredCitation, StoredEvidence
from fontanel.engine.runtime.watchers import Watcher, Watchers
from fontanel.records.tables import Turn, TurnState
from fontanel.schemas import (
    AnswerOut,
    CheckEvent,
    CitationEvent,
    EvidenceEvent,
    FinishEvent,
    PieceEvent,
    ProblemEvent,
    RestartEvent,
    StartEvent,
)
from fontanel.service.out.answers import citation_out, evidence_out, statement_out
from fontanel.service.problems import ApiError, problem
from fontanel.service.streaming.sse import STREAM_HEADERS, event_text
from fontanel.service.threads import run_briefly

log = structlog.get_logger()

Event = (
    StartEvent
    | EvidenceEvent
    | PieceEvent
    | CitationEvent
    | CheckEvent
    | RestartEvent
    | FinishEvent
)
Progress = Began | AnswerEvent | Recorded
#: Makes an answer, step by step, until it is done or cancelled.
Make = Callable[[threading.Event], Generator[Progress, None, None]]

#: Answers that are made at once.
MAX_AT_ONCE = 256
#: Seconds between two looks for the answer to a question that was sent before.
_POLL = 0.25
#: Seconds between checks of an asker's access; revoking it wakes immediately.
_ACCESS_CHECK = 15.0
#: Nobody reads the response: the client closed the request.
_CLIENT_CLOSED = 499

#: How a route that answers is described.
STREAMED: dict[int | str, dict[str, object]] = {
    200: {
        "description": "The answer. With `Accept: text/event-stream` the events start, evidence, "
        "piece, citation, check, restart and finish, or problem, each with its model as JSON.",
        "content": {"text/event-stream": {"schema": {"type": "string"}}},
    }
}


def new_pool() -> ThreadPoolExecutor:
    """Return the threads that make answers."""
    return ThreadPoolExecutor(MAX_AT_ONCE, thread_name_prefix="answer")


@dataclass(frozen=True, slots=True)
class AnswerKey:
    """A request's Idempotency-Key, None without one, and a hash of the whole request."""

    key: str | None
    body_hash: str


@dataclass(frozen=True, slots=True)
class Asker:
    """Whoever waits for an answer."""

    request: Request
    request_id: str
    watchers: Watchers
    still_allowed: Callable[[], bool]
    """Looks up whether the asker may still have the answer."""

    @property
    def wants_events(self) -> bool:
        """Whether the request accepts Server-Sent Events."""
        return "text/event-stream" in self.request.headers.get("accept", "")


def answer_key(request: Request, body: BaseModel) -> AnswerKey:
    """Return the key under which a question may be sent again."""
    key = request.headers.get("idempotency-key", "")[:200] or None
    asked = f"{request.url.path}\n{body.model_dump_json()}"
    return AnswerKey(key, hashlib.sha256(asked.encode()).hexdigest())


async def earlier_turn(
    request: Request, asking: Asking, asker: str, sent: AnswerKey
) -> Turn | None:
    """Return the turn that the key was used for, once that has its answer.

    A turn that ended without an answer frees its key.

    Raises:
        ApiError: conflict, when the key was used with another question, filter, kb or desk.
    """
    if sent.key is None:
        return None
    while (turn := await run_briefly(asking.earlier, asker, sent.key)) is not None:
        if turn.asked_hash != sent.body_hash:
            raise ApiError(
                "conflict",
                "This Idempotency-Key was used for another request.",
                field="Idempotency-Key",
                advice="Send a new key with a new question.",
            )
        if turn.state != TurnState.ANSWERING:
            break
        if await request.is_disconnected():
            raise ApiError(
                "conflict",
                "This question is being answered.",
                advice="Send it again in a moment.",
            )
        await asyncio.sleep(_POLL)
    return turn


def respond_again(asker: Asker, answer: AnswerOut) -> Response:
    """Return an earlier answer, in the form that the request asks for."""
    if not asker.wants_events:
        return Response(answer.model_dump_json(), media_type="application/json")
    start = StartEvent(
        conversation_id=answer.conversation_id,
        turn_id=answer.turn_id,
        question=answer.question,
        standalone=answer.standalone,
    )
    events: list[Event] = [start, FinishEvent(answer=answer)]
    return Response(
        b"".join(event_text(event.event, event) for event in events),
        media_type="text/event-stream",
    )


async def respond(asker: Asker, make: Make, finish: Callable[[Recorded], AnswerOut]) -> Response:
    """Make an answer and send it: as events if the request accepts them, else as JSON."""
    app = asker.request.app
    pool: ThreadPoolExecutor = app.state.answers
    cancelled = threading.Event()

    def finished(recorded: Recorded) -> AnswerOut:
        app.state.metrics.answers.labels(recorded.answer.outcome.value).inc()
        app.state.metrics.answer_seconds.observe(recorded.turn.seconds.get("total", 0.0))
        return finish(recorded)

    parent = tracing.current()

    def events() -> Generator[Event, None, None]:
        with tracing.within(parent):
            yield from _events(make(cancelled), finished)

    if asker.wants_events:
        return StreamingResponse(
            _stream(pool, cancelled, events, asker),
            media_type="text/event-stream",
            headers=STREAM_HEADERS,
        )
    return await _respond_json(pool, cancelled, events, asker)


async def _respond_json(
    pool: ThreadPoolExecutor,
    cancelled: threading.Event,
    events: Callable[[], Generator[Event, None, None]],
    asker: Asker,
) -> Response:
    running = asyncio.get_running_loop().run_in_executor(pool, lambda: list(events()))
    leaving = asyncio.ensure_future(_disconnected(asker.request))
    try:
        waiting: set[asyncio.Future[Any]] = {running, leaving}
        await asyncio.wait(waiting, return_when=asyncio.FIRST_COMPLETED)
        if not running.done():
            cancelled.set()
        made = await running
    finally:
        leaving.cancel()
    last = made[-1] if made else None
    if isinstance(last, FinishEvent):
        return Response(last.answer.model_dump_json(), media_type="application/json")
    if leaving.done() and not leaving.cancelled():
        return Response(status_code=_CLIENT_CLOSED)
    raise ApiError(
        "unavailable",
        "The service is stopping; the answer was not finished.",
        advice="Ask again in a moment.",
    )


async def _disconnected(request: Request) -> None:
    """Wait until the client closes the connection."""
    while (await request.receive())["type"] != "http.disconnect":
        pass


async def _stream(
    pool: ThreadPoolExecutor,
    cancelled: threading.Event,
    events: Callable[[], Generator[Event, None, None]],
    asker: Asker,
) -> AsyncIterator[bytes]:
    loop = asyncio.get_running_loop()
    arrived: asyncio.Queue[bytes | None] = asyncio.Queue()

    def put(item: bytes | None) -> None:
        with suppress(RuntimeError):  # the service is going down
            loop.call_soon_threadsafe(arrived.put_nowait, item)

    def run() -> None:
        made = events()
        try:
            for event in made:
                put(event_text(event.event, event))
                if cancelled.is_set():
                    break
        except Exception:
            # The status line has long been sent: the problem travels as an event.
            log.exception("asking failed", request_id=asker.request_id)
            detail = (
                "The service could not finish this answer. "
                "The log has the details under the request id."
            )
            failed = ProblemEvent(problem=problem("internal", detail, asker.request_id))
            put(event_text("problem", failed))
        finally:
            made.close()
            put(None)

    pool.submit(run)
    watching = asyncio.ensure_future(_end_when_revoked(asker, arrived))
    try:
        while (item := await arrived.get()) is not None:
            yield item
    finally:
        cancelled.set()
        watching.cancel()


async def _end_when_revoked(asker: Asker, arrived: asyncio.Queue[bytes | None]) -> None:
    watcher = Watcher()
    with asker.watchers.watch_access(watcher):
        while True:
            watcher.changed.clear()
            if not await run_briefly(asker.still_allowed):
                arrived.put_nowait(None)
                return
            with suppress(TimeoutError):
                await asyncio.wait_for(watcher.changed.wait(), timeout=_ACCESS_CHECK)


def _events(
    progress: Generator[Progress, None, None], finished: Callable[[Recorded], AnswerOut]
) -> Generator[Event, None, None]:
    began: Began | None = None
    try:
        for step in progress:
            if isinstance(step, Began):
                began = step
            elif isinstance(step, Started):
                assert began is not None
                yield StartEvent(
                    conversation_id=began.conversation_id,
                    turn_id=began.turn_id,
                    question=step.question,
                    standalone=step.standalone,
                )
            elif isinstance(step, Recorded):
                yield FinishEvent(answer=finished(step))
            elif event := _event(step):
                yield event
    finally:
        progress.close()


def _event(step: AnswerEvent) -> Event | None:
    """Return a step of an answer as it is sent; None for those that are not."""
    if isinstance(step, EvidenceFound):
        passages = [evidence_out(StoredEvidence.of(passage)) for passage in step.passages]
        return EvidenceEvent(passages=passages, sufficiency=round(step.sufficiency, 4))
    if isinstance(step, TextPiece):
        return PieceEvent(text=step.text)
    if isinstance(step, CitationBound):
        return CitationEvent(citation=citation_out(StoredCitation.of(step.citation)))
    if isinstance(step, StatementChecked):
        return CheckEvent(statement=statement_out(step.statement))
    if isinstance(step, Restarted):
        return RestartEvent(reason=step.reason)
    return None
