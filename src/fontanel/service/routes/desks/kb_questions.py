"""Asking a knowledge base by itself, and the conversations that keep what was asked."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from fontanel.engine.answering.asking import Asked, Recorded
from fontanel.engine.answering.targets import kb_target
from fontanel.records.tables import Conversation, Turn
from fontanel.schemas import AnswerOut, AskIn, ConversationChange, ConversationOut, Page, TurnOut
from fontanel.service.auth.access import Access, Reader, ReaderWrite
from fontanel.service.out import conversation_lists as conversations
from fontanel.service.out.turns import answer_out, turns_of
from fontanel.service.routers import api_router
from fontanel.service.streaming.answers import STREAMED, Asker, respond, respond_again, sent_before
from fontanel.service.streaming.renewal import Renewal

router = api_router("/teams/{team}/kbs/{kb}", "ask")


@router.post("/ask", summary="Ask a knowledge base", response_model=AnswerOut, responses=STREAMED)
async def ask_kb(kb: str, body: AskIn, access: Reader, request: Request) -> Response:
    """Answers with numbered citations, or says that the documents do not answer and gives the nearest passages."""
    found = access.scope.kb(kb)
    if body.conversation_id is not None:
        access.scope.conversation(found, body.conversation_id, access.caller.id)
    target = kb_target(found, body.tags, body.documents)
    access.session.rollback()
    asking, sessions = access.workshop.asking, access.workshop.sessions

    def out(turn: Turn) -> AnswerOut:
        with sessions() as session:
            return answer_out(session, turn)

    sent, before = await sent_before(request, asking, access.caller.id, body)
    if before is not None:
        return respond_again(request, out(before))
    asked = Asked(
        body.question,
        access.caller.id,
        access.request_id,
        body.conversation_id,
        sent.key,
        sent.body_hash,
    )

    def finish(recorded: Recorded) -> AnswerOut:
        return out(recorded.turn)

    asker = Asker(access.workshop.changes, Renewal(request, access).still_allowed)
    return await respond(
        request,
        access.request_id,
        lambda gone: asking.ask(target, asked, access.scope.kb_ids, gone),
        finish,
        asker,
    )


@router.get("/conversations", tags=["conversations"], summary="List your conversations")
def list_conversations(
    kb: str,
    access: Reader,
    text: str | None = None,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> Page[ConversationOut]:
    """Your own, the latest first; with `text` those that speak of it."""
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
