"""Records of answers.

How they were made, whether they still apply, and repetition.
"""

from __future__ import annotations

import threading
from typing import Annotated

from fastapi import Query, Request
from fastapi.responses import StreamingResponse
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.answering.asking import Asked, Recorded
from fontanel.engine.answering.receipts import ReceiptKey, receipt_of
from fontanel.engine.answering.targets import Target, desk_target, kb_target, published_version
from fontanel.errors import NotFound
from fontanel.records.tables import Conversation, Desk, Document, DocumentState, Kb, Role, Turn
from fontanel.schemas import (
    AgainOut,
    AnswerOut,
    ChangedCitation,
    PromptMessage,
    ReceiptOut,
    RecordOut,
    StepOut,
    TurnOut,
)
from fontanel.schemas.base import Moment
from fontanel.service.audited import note_read
from fontanel.service.auth.access import Access, Editor, Reader, RuntimeDep, count_question
from fontanel.service.desk_settings import reachable_kb_ids
from fontanel.service.out.differences import lines_between
from fontanel.service.out.exported import Selection, exported_lines
from fontanel.service.out.turns import answer_out, feedback_by_turn, turn_out
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/answers", "answers")
keys = api_router(tag="answers")


def _turn(access: Access, ref: str) -> Turn:
    """Return a turn with all details.

    An editor may see all of the team's, others their own.

    Raises:
        NotFound: there is none, or not for this caller.
    """
    result = access.session.scalar(access.scope.turns().where(Turn.id == ref))
    if result is None or (access.role == Role.READER and result.asker != access.caller.id):
        raise NotFound("answer", ref)
    return result


def changed_since(session: Session, turn: Turn) -> list[ChangedCitation]:
    """The citations whose documents have another content by now, or are gone."""
    ids = {citation["document_id"] for citation in turn.citations}
    documents = {
        d.id: d
        for d in session.scalars(
            select(Document).where(Document.team_id == turn.team_id, Document.id.in_(ids))
        )
    }
    out = []
    for citation in turn.citations:
        document = documents.get(citation["document_id"])
        removed = document is None or document.state == DocumentState.REMOVED
        if removed or (document is not None and document.revision_id != citation["revision_id"]):
            out.append(
                ChangedCitation(
                    citation=citation["number"],
                    document_id=citation["document_id"],
                    title=citation["title"],
                    state="gone" if removed else "changed",
                )
            )
    return out


@router.get("/export", summary="Export questions and answers", response_class=StreamingResponse)
def export_answers(
    access: Editor,
    desk: Annotated[str | None, Query(max_length=200)] = None,
    since: Annotated[Moment | None, Query(description="From this moment on.")] = None,
    until: Annotated[Moment | None, Query(description="Up to this moment.")] = None,
) -> StreamingResponse:
    """JSON Lines: each question with its answer, citations and feedback, the oldest first.

    Trials are not among them.
    """
    desk_id = None if desk is None else access.scope.desk(desk).id
    selection = Selection(access.team.id, desk_id, access.kb_ids, since, until)
    access.release()
    lines = exported_lines(access.runtime.records, selection)
    headers = {"Content-Disposition": 'attachment; filename="answers.jsonl"'}
    return StreamingResponse(lines, media_type="application/jsonl", headers=headers)


@router.get("/{answer}", summary="Show how an answer was made")
def show_answer(answer: str, access: Reader) -> RecordOut:
    """Steps, passages, messages to a model, and verdicts.

    Your own, or any for editors.
    """
    turn = _turn(access, answer)
    if turn.asker != access.caller.id:
        note_read(access.runtime)
    plain = turn_out(access.session, turn, feedback_by_turn(access.session, [turn])[turn.id])
    return RecordOut(
        **plain.model_dump(),
        conversation_id=turn.conversation_id,
        asker=turn.asker,
        desk_id=turn.desk_id,
        desk_version=turn.desk_version,
        settings=turn.settings,
        editions=turn.editions,
        steps=[StepOut(**step) for step in turn.steps or ()],
        prompt=[PromptMessage(**message) for message in turn.prompt or ()],
        raw=turn.raw,
        tokens_read=turn.tokens_read,
        tokens_written=turn.tokens_written,
        cost=turn.cost,
        changed_since=changed_since(access.session, turn),
        record_deleted_at=turn.record_deleted_at,
    )


@router.get("/{answer}/receipt", summary="Export an answer as a signed document")
def answer_receipt(answer: str, access: Reader) -> ReceiptOut:
    """A JWS with the question, the answer, its quotes, and the hashes of what they are from."""
    turn = _turn(access, answer)
    if turn.asker != access.caller.id:
        note_read(access.runtime)
    runtime = access.runtime
    payload = receipt_of(access.session, turn, runtime.settings.origin)
    return ReceiptOut(**ReceiptKey(runtime.vault).sign(payload))


@keys.get("/receipt-key", summary="Show the public key of receipts")
async def receipt_key(runtime: RuntimeDep) -> dict[str, str]:
    """For anybody: a JSON Web Key (RFC 7517), to verify receipts with."""
    return {name: str(value) for name, value in ReceiptKey(runtime.vault).public.items()}


@router.post("/{answer}/again", summary="Ask the same question again")
def ask_again(answer: str, access: Editor, request: Request) -> AgainOut:
    """Ask again with today's documents and published desk.

    The conversation is unchanged.
    """
    turn = _turn(access, answer)
    before = turn_out(access.session, turn, [])
    target = _target_now(access, turn)
    count_question(request, access)
    # The question as it was understood needs no conversation.
    asked = Asked(
        question=turn.standalone or turn.question,
        asker=access.caller.id,
        request_id=access.request_id,
        keep=False,
    )
    access.release()
    *_, recorded = access.runtime.asking.ask(target, asked, access.kb_ids, threading.Event())
    assert isinstance(recorded, Recorded)
    with access.runtime.records.reading() as session:
        now = answer_out(session, recorded.turn)
    return _beside(before, now)


def _target_now(access: Access, turn: Turn) -> Target:
    if turn.desk_id is None:
        kb_id = access.session.get_one(Conversation, turn.conversation_id).kb_id
        return kb_target(access.session.get_one(Kb, kb_id), {}, None)
    desk = access.session.get_one(Desk, turn.desk_id)
    if not access.scope.may_reach(desk):
        raise NotFound("desk", desk.slug)
    version = published_version(access.session, desk)
    settings = desk.draft if version is None or turn.desk_version is None else version.settings
    target = desk_target(
        desk, settings, None if version is None else version.number, reachable_kb_ids(access)
    )
    if not target.kbs:
        raise ApiError("conflict", "The desk has no knowledge base to answer from any more.")
    return target


def _beside(before: TurnOut, now: AnswerOut) -> AgainOut:
    one, other = ([f"{c.title}: {c.quote}" for c in turn.citations] for turn in (before, now))
    result, finds = (
        [f"{e.title}: {' '.join(e.text.split())[:120]}" for e in turn.evidence]
        for turn in (before, now)
    )
    return AgainOut(
        before=before,
        now=now,
        same_text=before.text == now.text,
        lines=lines_between(before.text, now.text),
        citations_gone=[item for item in one if item not in other],
        citations_new=[item for item in other if item not in one],
        evidence_gone=[item for item in result if item not in finds],
        evidence_new=[item for item in finds if item not in result],
    )
