"""Proposed questions: those that documents answer, for people to approve or dismiss."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from fastapi import Query
from sqlalchemy import select

from fontanel.engine.curation.proposing import decisions
from fontanel.errors import Conflict, NotFound
from fontanel.records.tables import (
    Document,
    Kb,
    Proposal,
    ProposalRun,
    ProposalState,
    now,
)
from fontanel.schemas import (
    DocumentProposals,
    Page,
    ProposalChange,
    ProposalOut,
    ProposalsDecision,
    ProposalStateName,
)
from fontanel.service.auth.access import Access, Editor, EditorWrite
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/kbs/{kb}", "proposed questions")


@router.get("/proposals", summary="List proposed questions")
def list_proposals(
    kb: str,
    access: Editor,
    state: ProposalStateName = "open",
    offset: Annotated[int, Query(ge=0, le=1_000_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
) -> Page[ProposalOut]:
    """By document, in the order of its text."""
    query = access.scope.select(Proposal).where(
        Proposal.kb_id == access.scope.kb(kb).id, Proposal.state == ProposalState(state)
    )
    query = query.order_by(Proposal.document_id, Proposal.start, Proposal.id)
    rows = access.session.scalars(query.offset(offset).limit(limit + 1)).all()
    more = str(offset + limit) if len(rows) > limit else None
    return Page(items=_out(access, rows[:limit]), next=more)


@router.post("/proposals/decide", summary="Approve or dismiss proposed questions")
def decide_proposals(kb: str, body: ProposalsDecision, access: EditorWrite) -> Page[ProposalOut]:
    """All of them, or none if one is not there. An approved one becomes an approved answer."""
    kb_row = access.scope.kb(kb)
    rows = [_find(access, kb_row, ref) for ref in dict.fromkeys(body.proposals)]
    for row in rows:
        if row.state == ProposalState.APPROVED:
            raise Conflict(
                f"{row.question!r} is approved already.",
                advice="Change or retire the approved answer.",
            )
        if body.decision == "approve":
            decisions.approve(access.scope, kb_row, row, access.caller.name, body.category)
        elif body.decision == "dismiss":
            decisions.dismiss(row, access.caller.name)
        else:
            row.state, row.decided_by = ProposalState.OPEN, ""
    access.session.flush()
    return Page(items=_out(access, rows))


@router.patch("/proposals/{proposal}", summary="Change a proposed question")
def change_proposal(
    kb: str, proposal: str, body: ProposalChange, access: EditorWrite
) -> ProposalOut:
    """Its question, its other wordings, or the answer, before it is approved."""
    kb_row = access.scope.kb(kb)
    row = _find(access, kb_row, proposal)
    if row.state == ProposalState.APPROVED:
        raise Conflict("It is approved already.", advice="Change the approved answer.")
    if body.question is not None and body.question != row.question:
        same = select(Proposal.id).where(
            Proposal.document_id == row.document_id, Proposal.question == body.question
        )
        if access.session.scalar(same) is not None:
            raise Conflict("This question is proposed already.", field="question")
        row.question = body.question
    if body.answer is not None:
        row.answer = body.answer
    if body.phrasings is not None:
        row.phrasings = body.phrasings
    row.edited, row.changed_at = True, now()
    access.session.flush()
    return _out(access, [row])[0]


@router.get("/documents/{document}/proposals", summary="List what is proposed of a document")
def show_document_proposals(kb: str, document: str, access: Editor) -> DocumentProposals:
    """In the order of its text, with what was decided."""
    row = access.scope.document(access.scope.kb(kb), document)
    return _document_out(access, row, access.session.get(ProposalRun, row.id))


@router.post(
    "/documents/{document}/proposals",
    status_code=202,
    summary="Propose the questions that a document answers",
)
def propose_questions(kb: str, document: str, access: EditorWrite) -> DocumentProposals:
    """In the background. Decisions on text that is unchanged are kept."""
    row = access.scope.document(access.scope.kb(kb), document)
    return _document_out(access, row, decisions.request(access.session, row))


def _document_out(access: Access, row: Document, run: ProposalRun | None) -> DocumentProposals:
    query = access.scope.select(Proposal).where(Proposal.document_id == row.id)
    rows = access.session.scalars(query.order_by(Proposal.start, Proposal.id)).all()
    return DocumentProposals(
        waiting=run is not None and run.waiting,
        revision_id=None if run is None else run.revision_id,
        tried=0 if run is None else run.tried,
        passages=0 if run is None else run.passages,
        passages_read=0 if run is None else min(len(run.written), run.passages),
        error="" if run is None else run.error,
        items=_out(access, rows),
    )


def _find(access: Access, kb: Kb, ref: str) -> Proposal:
    query = access.scope.select(Proposal).where(Proposal.kb_id == kb.id, Proposal.id == ref)
    result = access.session.scalar(query)
    if result is None:
        raise NotFound("proposed question", ref)
    return result


def _out(access: Access, rows: Sequence[Proposal]) -> list[ProposalOut]:
    query = access.scope.select(Document).where(Document.id.in_({row.document_id for row in rows}))
    titles = {document.id: document.title for document in access.session.scalars(query)}
    return [
        ProposalOut(
            id=row.id,
            document_id=row.document_id,
            title=titles.get(row.document_id, ""),
            revision_id=row.revision_id,
            start=row.start,
            end=row.end,
            quote=row.quote,
            question=row.question,
            phrasings=row.phrasings,
            answer=row.answer,
            relevance=round(row.relevance, 4),
            state=row.state.value,
            approved_id=row.approved_id,
            decided_by=row.decided_by,
            changed_at=row.changed_at,
        )
        for row in rows
    ]
