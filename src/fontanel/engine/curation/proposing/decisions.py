"""Runs of proposing, what is proposed, and what people decide about it."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import ColumnElement, or_, select
from sqlalchemy.orm import Session

from fontanel.engine.curation import approved
from fontanel.engine.curation.proposing.checking import Checked
from fontanel.records.ids import new_id
from fontanel.records.scope import TeamScope
from fontanel.records.tables import (
    ApprovedState,
    Document,
    DocumentState,
    Kb,
    Proposal,
    ProposalRun,
    ProposalState,
    now,
)


def next_document(session: Session, *, by_model: bool) -> Document | None:
    """Return a document that was asked for, or whose knowledge base proposes automatically.

    Most knowledge bases do not: their documents are not looked at.

    Args:
        by_model: Whether its knowledge base names a model for it. Those that were looked at last
            come last, so that all documents take turns.
    """
    proposer = Kb.proposer.is_not(None) if by_model else Kb.proposer.is_(None)
    due: ColumnElement[bool] = or_(ProposalRun.again_at.is_(None), ProposalRun.again_at <= now())
    indexed = select(Document).where(Document.state == DocumentState.INDEXED)
    asked = (
        indexed.join(ProposalRun, ProposalRun.document_id == Document.id)
        .join(Kb, Kb.id == Document.kb_id)
        .where(ProposalRun.waiting.is_(True), due, proposer)
        .order_by(ProposalRun.changed_at)
    )
    found = session.scalar(asked.limit(1))
    if found is not None:
        return found
    kbs = session.scalars(select(Kb.id).where(Kb.proposes_questions.is_(True), proposer)).all()
    if not kbs:
        return None
    unlooked = indexed.outerjoin(ProposalRun, ProposalRun.document_id == Document.id).where(
        Document.kb_id.in_(kbs),
        or_(ProposalRun.document_id.is_(None), ProposalRun.revision_id != Document.revision_id),
        or_(ProposalRun.document_id.is_(None), due),
    )
    return session.scalar(unlooked.limit(1))


def run_of(session: Session, document: Document) -> ProposalRun:
    """Return the run of a document; a new one if there was none."""
    run = session.get(ProposalRun, document.id)
    if run is None:
        run = ProposalRun(
            document_id=document.id,
            team_id=document.team_id,
            kb_id=document.kb_id,
            tried=0,
            tries=0,
            passages=0,
            written={},
        )
        session.add(run)
    return run


def store_proposals(
    session: Session,
    document: Document,
    revision_id: str,
    found: Sequence[Checked],
    tried: int,
    error: str,
) -> None:
    """Replace the open proposals of a document; decisions on unchanged text are kept."""
    run = run_of(session, document)
    run.revision_id, run.waiting, run.tried, run.error = revision_id, False, tried, error
    run.changed_at = now()
    rows = session.scalars(select(Proposal).where(Proposal.document_id == document.id)).all()
    by_question = {row.question: row for row in rows}
    by_quote = {row.quote: row for row in rows if row.edited}
    kept: set[str] = set()
    for one in found:
        row = by_question.get(one.candidate.question) or by_quote.get(one.quote)
        if row is None:
            row = Proposal(
                id=new_id("prop"),
                team_id=document.team_id,
                kb_id=document.kb_id,
                document_id=document.id,
                question=one.candidate.question,
                phrasings=list(one.candidate.phrasings),
                answer=one.candidate.answer,
                state=ProposalState.OPEN,
            )
            session.add(row)
        elif row.quote != one.quote:
            # The text has changed: it is proposed again, with what it says now.
            row.state, row.decided_by, row.approved_id = ProposalState.OPEN, "", None
            row.answer, row.edited = one.candidate.answer, False
        row.revision_id, row.quote, row.relevance = revision_id, one.quote, one.relevance
        row.start, row.end, row.changed_at = one.candidate.start, one.candidate.end, now()
        kept.add(row.id)
    for row in rows:
        if row.id not in kept and row.state != ProposalState.APPROVED:
            session.delete(row)


def request(session: Session, document: Document) -> ProposalRun:
    """Have the questions of a document proposed, again if they were before."""
    run = run_of(session, document)
    run.waiting, run.error, run.changed_at = True, "", now()
    run.tries, run.again_at = 0, None
    session.flush()
    return run


def approve(scope: TeamScope, kb: Kb, row: Proposal, author: str, category: str) -> None:
    """Make an approved answer of a proposal, with its text as the source."""
    document = scope.document(kb, row.document_id)
    locator = approved.locator_in(scope, row.revision_id, row.start)
    place = approved.Place(
        document.id, row.revision_id, document.title, row.start, row.end, row.quote, locator
    )
    values = {
        "question": row.question,
        "phrasings": row.phrasings,
        "text": row.answer,
        "places": [place.dump()],
        "category": category,
        "state": ApprovedState.APPROVED,
    }
    made = approved.create(scope.session, kb, values, author)
    row.state, row.approved_id = ProposalState.APPROVED, made.id
    row.decided_by, row.changed_at = author, now()


def dismiss(row: Proposal, author: str) -> None:
    """Decide that a question is not to be approved; it is not proposed again."""
    row.state, row.decided_by, row.changed_at = ProposalState.DISMISSED, author, now()
