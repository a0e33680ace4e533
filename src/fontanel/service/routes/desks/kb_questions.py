"""Asking a knowledge base directly, and its conversations."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from fontanel.engine.answering.asking import Asked
from fontanel.engine.answering.targets import Target, kb_target
from fontanel.records.tables import Conversation, Turn
from fontanel.schemas import AnswerOut, AskIn, ConversationChange, ConversationOut, Page, TurnOut
from fontanel.service.auth.access import Access, Reader, ReaderWrite, count_question
from fontanel.service.out import conversation_lists as conversations
from fontanel.service.out.turns import answer_out, turns_of
from fontanel.service.routers import api_router
from fontanel.service.streaming.answers import (
    STREAMED,
    Asker,
    answer_key,
    earlier_turn,
    respond,
    respond_again,
)
from fontanel.service.streaming.renewal import Renewal
from fontanel.service.threads import run_briefly

router = api_router("/teams/{team}/kbs/{kb}", "ask")


@router.post("/ask", summary="Ask a knowledge base", response_model=AnswerOut, responses=STREAMED)
async def ask_kb(kb: str, body: AskIn, access: Reader, request: Request) -> Response:
    """Answer with numbered citations, or decline and return the nearest passages."""
    target = await run_briefly(_target, access, kb, body)
    asking, records = access.runtime.asking, access.runtime.records
    asker = Asker(
        request,
        access.request_id,
        access.runtime.watchers,
        Renewal(request, access).still_allowed,
    )

    def out(turn: Turn) -> AnswerOut:
        with records.reading() as session:
            return answer_out(session, turn)

    sent = answer_key(request, body)
    if earlier := await earlier_turn(request, asking, access.caller.id, sent):
        return respond_again(asker, await run_briefly(out, earlier))
    await run_briefly(count_question, request, access)
    asked = Asked(
        question=body.question,
        asker=access.caller.id,
        request_id=access.request_id,
        conversation_id=body.conversation_id,
        key=sent.key,
        body_hash=sent.body_hash,
    )
    return await respond(
        asker,
        lambda cancelled: asking.ask(target, asked, access.kb_ids, cancelled),
        lambda recorded: out(recorded.turn),
    )


def _target(access: Access, kb: str, body: AskIn) -> Target:
    with access.reading() as reading:
        record = reading.scope.kb(kb)
        if body.conversation_id is not None:
            reading.scope.conversation(record, body.conversation_id, access.caller.id)
        return kb_target(record, body.tags, body.documents)


@router.get("/conversations", tags=["conversations"], summary="List your conversations")
def list_conversations(
    kb: str,
    access: Reader,
    text: str | None = None,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> Page[ConversationOut]:
    """Your own, latest first; with `text`, those that contain it."""
    own = (Conversation.kb_id == access.scope.kb(kb).id, Conversation.asker == access.caller.id)
    return conversations.listed(access.session, *own, text=text, limit=limit)


@router.get(
    "/conversations/{conversation}", tags=["conversations"], summary="Show a conversation's turns"
)
def show_conversation(kb: str, conversation: str, access: Reader) -> Page[TurnOut]:
    """Oldest first."""
    return Page(items=turns_of(access.session, _own(kb, conversation, access)))


@router.patch(
    "/conversations/{conversation}", tags=["conversations"], summary="Rename a conversation"
)
def rename_conversation(
    kb: str, conversation: str, body: ConversationChange, access: ReaderWrite
) -> ConversationOut:
    return conversations.renamed(access.session, _own(kb, conversation, access), body.title)


@router.delete(
    "/conversations/{conversation}",
    status_code=204,
    tags=["conversations"],
    summary="Delete a conversation",
)
def delete_conversation(kb: str, conversation: str, access: ReaderWrite) -> None:
    conversations.deleted(access.session, _own(kb, conversation, access))


@router.get(
    "/conversations/{conversation}/export", tags=["conversations"], summary="Export a conversation"
)
def export_conversation(
    kb: str, conversation: str, access: Reader, form: conversations.Form = "markdown"
) -> Response:
    """As Markdown with its sources as footnotes, or as JSON."""
    return conversations.exported(access.session, _own(kb, conversation, access), form)


def _own(kb: str, conversation: str, access: Access) -> Conversation:
    return access.scope.conversation(access.scope.kb(kb), conversation, access.caller.id)
