"""Answers on their way out: each made in a thread of its own, sent as JSON at its end or as server-sent events as it comes.

Threads of their own, since an answer waits for a model most of its time, and must not keep the requests of others waiting. When the
asker leaves, `gone` is set, the model's call is cancelled, and the turn stays as one that was stopped.
"""

from __future__ import annotations

import asyncio
import hashlib
import threading
from collections.abc import AsyncIterator, Callable, Generator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass

import structlog
from fastapi import Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import StreamingResponse
from pydantic import BaseModel

from fontanel.core.answering import (
    AnswerEvent,
    CitationBound,
    EvidenceFound,
    Restarted,
    Started,
    StatementChecked,
    TextPiece,
)
from fontanel.engine.answering.asking import (
    Asking,
    Began,
    Recorded,
    citation_record,
    evidence_record,
    statement_record,
)
from fontanel.engine.runtime.watchers import Changes, Listener
from fontanel.records.tables import Turn, TurnState
from fontanel.schemas import (
    AnswerOut,
    CheckEvent,
    CitationEvent,
    CitationOut,
    EvidenceEvent,
    EvidenceOut,
    FinishEvent,
    PieceEvent,
    ProblemEvent,
    RestartEvent,
    StartEvent,
    StatementOut,
)
from fontanel.service.problems import ProblemError, problem
from fontanel.service.streaming.sse import sse
from fontanel.service.streaming.turnstile import in_turn

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
Told = Began | AnswerEvent | Recorded
Tell = Callable[[threading.Event], Generator[Told, None, None]]

#: Answers that are made at once.
MOST_AT_ONCE = 256
#: How often it is looked whether an asker who waits for JSON is still there.
_LOOK = 0.25
#: How often it is looked whether the asker's key, sign-in or link has expired, in seconds. Revocation wakes at once.
_LOOK_AT_ACCESS = 15.0


def new_pool() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(MOST_AT_ONCE, thread_name_prefix="answer")


@dataclass(frozen=True, slots=True)
class Sent:
    """A request's Idempotency-Key, None without one, and a hash of everything that was asked with it."""

    key: str | None
    body_hash: str


async def sent_before(
    request: Request, asking: Asking, asker: str, body: BaseModel
) -> tuple[Sent, Turn | None]:
    """The request's key, and the turn that it was used for, once that has its answer. A turn that ended without one gives its key
    back. Raises ProblemError(conflict) when the key was used with another question, filter, knowledge base or desk."""
    key = request.headers.get("idempotency-key", "")[:200] or None
    sent = Sent(
        key, hashlib.sha256(f"{request.url.path}\n{body.model_dump_json()}".encode()).hexdigest()
    )
    if key is None:
        return sent, None
    while (turn := await run_in_threadpool(asking.earlier, asker, key)) is not None:
        if turn.asked_hash != sent.body_hash:
            raise ProblemError(
                "conflict",
                "This Idempotency-Key was used for another request.",
                field="Idempotency-Key",
                advice="Send a new key with a new question.",
            )
        if turn.state != TurnState.ANSWERING:
            break
        if await request.is_disconnected():
            raise ProblemError(
                "conflict", "This question is being answered.", advice="Send it again in a moment."
            )
        await asyncio.sleep(_LOOK)
    return sent, turn


def respond_again(request: Request, answer: AnswerOut) -> Response:
    """An answer that was given before, in the form that is asked for."""
    if "text/event-stream" not in request.headers.get("accept", ""):
        return Response(answer.model_dump_json(), media_type="application/json")
    start = StartEvent(
        conversation_id=answer.conversation_id,
        turn_id=answer.turn_id,
        question=answer.question,
        standalone=answer.standalone,
    )
    events: list[Event] = [start, FinishEvent(answer=answer)]
    return Response(
        "".join(sse(event.event, event) for event in events), media_type="text/event-stream"
    )


@dataclass(frozen=True, slots=True)
class Asker:
    """Whoever waits for an answer: `still_allowed` looks up whether they may still have it."""

    changes: Changes
    still_allowed: Callable[[], bool]


async def respond(
    request: Request,
    request_id: str,
    tell: Tell,
    finish: Callable[[Recorded], AnswerOut],
    asker: Asker,
) -> Response:
    """Run `tell` and send what it tells: as events when the request accepts them, else as one JSON answer."""
    pool: ThreadPoolExecutor = request.app.state.answers
    counter = request.app.state.metrics.answers
    gone = threading.Event()

    def done(recorded: Recorded) -> AnswerOut:
        counter.labels(recorded.answer.outcome.value).inc()
        return finish(recorded)

    if "text/event-stream" in request.headers.get("accept", ""):
        stream = _stream(pool, gone, lambda: _events(tell(gone), done), request_id, asker)
        return StreamingResponse(
            stream,
            media_type="text/event-stream",
            headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"},
        )
    loop = asyncio.get_running_loop()
    running = loop.run_in_executor(pool, lambda: list(_events(tell(gone), done)))
    while not running.done():
        await asyncio.wait({running}, timeout=_LOOK)
        if not running.done() and await request.is_disconnected():
            gone.set()
    events = running.result()
    if not events or not isinstance(events[-1], FinishEvent):
        return Response(status_code=499)  # nobody is there to read it
    return Response(events[-1].answer.model_dump_json(), media_type="application/json")


async def _stream(
    pool: ThreadPoolExecutor,
    gone: threading.Event,
    events: Callable[[], Generator[Event, None, None]],
    request_id: str,
    asker: Asker,
) -> AsyncIterator[str]:
    loop = asyncio.get_running_loop()
    arrived: asyncio.Queue[str | None] = asyncio.Queue()

    def put(item: str | None) -> None:
        with suppress(RuntimeError):  # the service is going down
            loop.call_soon_threadsafe(arrived.put_nowait, item)

    def run() -> None:
        told = events()
        try:
            for event in told:
                put(sse(event.event, event))
                if gone.is_set():
                    break
        except Exception:
            # The status line is long gone; the problem travels as an event.
            log.exception("asking failed", request_id=request_id)
            detail = "The service could not finish this answer. The log has the details under the request id."
            put(sse("problem", ProblemEvent(problem=problem("internal", detail, request_id))))
        finally:
            told.close()
            put(None)

    async def end_when_revoked() -> None:
        listener = Listener()
        with asker.changes.listen_to_access(listener):
            while True:
                listener.woken.clear()
                if not await in_turn(asker.still_allowed):
                    arrived.put_nowait(None)
                    return
                with suppress(TimeoutError):
                    await asyncio.wait_for(listener.woken.wait(), timeout=_LOOK_AT_ACCESS)

    pool.submit(run)
    watching = asyncio.ensure_future(end_when_revoked())
    try:
        while (item := await arrived.get()) is not None:
            yield item
    finally:
        gone.set()
        watching.cancel()


def _events(
    told: Generator[Told, None, None], done: Callable[[Recorded], AnswerOut]
) -> Generator[Event, None, None]:
    began: Began | None = None
    try:
        for event in told:
            if isinstance(event, Began):
                began = event
            elif isinstance(event, Started):
                assert began is not None
                yield StartEvent(
                    conversation_id=began.conversation_id,
                    turn_id=began.turn_id,
                    question=event.question,
                    standalone=event.standalone,
                )
            elif isinstance(event, EvidenceFound):
                passages = [EvidenceOut(**evidence_record(passage)) for passage in event.passages]
                yield EvidenceEvent(passages=passages, sufficiency=round(event.sufficiency, 4))
            elif isinstance(event, TextPiece):
                yield PieceEvent(text=event.text)
            elif isinstance(event, CitationBound):
                yield CitationEvent(citation=CitationOut(**citation_record(event.citation)))
            elif isinstance(event, StatementChecked):
                yield CheckEvent(statement=StatementOut(**statement_record(event.statement)))
            elif isinstance(event, Restarted):
                yield RestartEvent(reason=event.reason)
            elif isinstance(event, Recorded):
                yield FinishEvent(answer=done(event))
    finally:
        told.close()


#: How a route that answers is described.
STREAMED: dict[int | str, dict[str, object]] = {
    200: {
        "description": "The answer; with `Accept: text/event-stream` the events start, evidence, piece, citation, check, restart and "
        "finish, or problem, each with its model as JSON.",
        "content": {"text/event-stream": {"schema": {"type": "string"}}},
    }
}
