"""Asking, and the conversations that keep what was asked."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated

import structlog
from fastapi import APIRouter, Query, Request, Response
from fastapi.responses import StreamingResponse

from fontanel.core.answering import Answer, CitationBound, EvidenceFound, Finished, Started, TextPiece
from fontanel.records.database import writing
from fontanel.records.ids import new_id
from fontanel.records.tables import Conversation, Turn
from fontanel.schemas import (
    AnswerOut,
    AskIn,
    CitationEvent,
    CitationOut,
    ConversationOut,
    EvidenceEvent,
    EvidenceOut,
    FinishEvent,
    Page,
    PieceEvent,
    ProblemEvent,
    StartEvent,
    TurnOut,
)
from fontanel.service.access import Access, Reader, ReaderWrite
from fontanel.service.events import sse
from fontanel.service.problems import problem
from fontanel.service.search import knowledge_of
from fontanel.work.asking import ask, citation_record, evidence_record, history_of, record_turn
from fontanel.work.retrieval import KbKnowledge

router = APIRouter(prefix="/teams/{team}/kbs/{kb}", tags=["ask"])
log = structlog.get_logger()

Event = StartEvent | EvidenceEvent | PieceEvent | CitationEvent | FinishEvent


@router.post(
    "/ask",
    summary="Ask a knowledge base",
    response_model=AnswerOut,
    responses={
        200: {
            "description": "The answer; with `Accept: text/event-stream` the events start, evidence, piece, citation and "
            "finish, or problem, each with its model as JSON.",
            "content": {"text/event-stream": {"schema": {"type": "string"}}},
        }
    },
)
def ask_kb(kb: str, body: AskIn, access: Reader, request: Request) -> Response:
    """Answers with numbered citations, or says that the documents do not answer and gives the nearest passages."""
    found = access.scope.kb(kb)
    kb_id, edition_id = found.id, found.edition_id
    if body.conversation_id is not None:
        access.scope.conversation(found, body.conversation_id, access.caller.id)
    metrics = request.app.state.metrics
    events = _events(access, kb_id, edition_id, body, metrics.answers)
    if "text/event-stream" in request.headers.get("accept", ""):
        access.session.rollback()
        return StreamingResponse(
            _stream(access, events), media_type="text/event-stream", headers={"Cache-Control": "no-store"}
        )
    *_, last = events
    assert isinstance(last, FinishEvent)
    return Response(last.answer.model_dump_json(), media_type="application/json")


def _stream(access: Access, events: Iterator[Event]) -> Iterator[str]:
    try:
        for event in events:
            yield sse(event.event, event)
    except Exception:
        # The status line is long gone; the problem travels as an event.
        log.exception("asking failed", request_id=access.request_id)
        detail = "The service could not finish this answer. The log has the details under the request id."
        yield sse("problem", ProblemEvent(problem=problem("internal", detail, access.request_id)))


def _events(access: Access, kb_id: str, edition_id: str, body: AskIn, counter: object) -> Iterator[Event]:
    with access.workshop.sessions() as session:
        narrowed = access.within(session)
        kb = narrowed.scope.kb(kb_id)
        conversation = (
            narrowed.scope.conversation(kb, body.conversation_id, access.caller.id) if body.conversation_id else None
        )
        knowledge: KbKnowledge = knowledge_of(narrowed, kb, body.tags, body.documents)
        history = history_of(session, conversation)
        conversation_id = conversation.id if conversation else _new_conversation(access, kb_id, body.question)
        timings: dict[str, float] = {}
        for event in ask(knowledge, body.question, history, timings):
            if isinstance(event, Started):
                yield StartEvent(conversation_id=conversation_id, question=event.question, standalone=event.standalone)
            elif isinstance(event, EvidenceFound):
                passages = [EvidenceOut(**evidence_record(passage)) for passage in event.passages]
                yield EvidenceEvent(passages=passages, sufficiency=round(event.sufficiency, 4))
            elif isinstance(event, TextPiece):
                yield PieceEvent(text=event.text)
            elif isinstance(event, CitationBound):
                yield CitationEvent(citation=CitationOut(**citation_record(event.citation)))
            elif isinstance(event, Finished):
                turn = record_turn(
                    access.workshop.sessions, conversation_id, event.answer, edition_id, timings, access.request_id
                )
                counter.labels(event.answer.outcome.value).inc()  # type: ignore[attr-defined]
                yield FinishEvent(answer=_answer_out(event.answer, turn))


def _new_conversation(access: Access, kb_id: str, question: str) -> str:
    with writing(access.workshop.sessions) as session:
        conversation = Conversation(
            id=new_id("conv"), team_id=access.team.id, kb_id=kb_id, asker=access.caller.id, title=question[:80]
        )
        session.add(conversation)
        session.commit()
        return conversation.id


def _answer_out(answer: Answer, turn: Turn) -> AnswerOut:
    return AnswerOut(
        conversation_id=turn.conversation_id, turn_id=turn.id, question=turn.question, standalone=turn.standalone,
        outcome=answer.outcome.value, text=turn.text, citations=[CitationOut(**c) for c in turn.citations],
        evidence=[EvidenceOut(**e) for e in turn.evidence], sufficiency=round(turn.sufficiency, 4),
        composer=turn.composer, seconds=turn.seconds, request_id=turn.request_id,
    )  # fmt: skip


@router.get("/conversations", tags=["conversations"], summary="List your conversations")
def list_conversations(
    kb: str, access: Reader, limit: Annotated[int, Query(ge=1, le=200)] = 50
) -> Page[ConversationOut]:
    """Your own, the latest first."""
    found = access.scope.kb(kb)
    query = (
        access.scope.select(Conversation)
        .where(Conversation.kb_id == found.id, Conversation.asker == access.caller.id)
        .order_by(Conversation.changed_at.desc())
        .limit(limit)
    )
    return Page(items=[ConversationOut.model_validate(row) for row in access.session.scalars(query)])


@router.get("/conversations/{conversation}", tags=["conversations"], summary="Show a conversation's turns")
def show_conversation(kb: str, conversation: str, access: Reader) -> Page[TurnOut]:
    """Oldest first."""
    found = access.scope.conversation(access.scope.kb(kb), conversation, access.caller.id)
    query = access.scope.select(Turn).where(Turn.conversation_id == found.id).order_by(Turn.number)
    return Page(items=[TurnOut.model_validate(turn) for turn in access.session.scalars(query)])


@router.delete(
    "/conversations/{conversation}", status_code=204, tags=["conversations"], summary="Delete a conversation"
)
def delete_conversation(kb: str, conversation: str, access: ReaderWrite) -> None:
    access.session.delete(access.scope.conversation(access.scope.kb(kb), conversation, access.caller.id))
    access.session.commit()
