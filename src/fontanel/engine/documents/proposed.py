"""Documents that programs propose, and what editors decide about them.

A proposal is not part of the knowledge base: it is neither indexed nor found. Accepting it adds the
document, or a revision of the one that has its name.
"""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.documents.documents import Added, add_document
from fontanel.engine.documents.editable import why_not_editable
from fontanel.errors import Conflict
from fontanel.records.ids import new_id
from fontanel.records.tables import (
    Document,
    DocumentState,
    Kb,
    ProposedDocument,
    ProposedDocumentState,
    Revision,
    now,
)

#: How many of a knowledge base may wait for a decision.
MAX_OPEN = 100


def propose(
    session: Session, kb: Kb, name: str, text: str, reason: str, person: str
) -> ProposedDocument:
    """Propose a document; the same proposal twice is one.

    Args:
        session: A session of the records.
        kb: The knowledge base.
        name: The document's name, checked.
        text: Its text.
        reason: Why it is proposed, for whoever decides.
        person: The name of the person or key that proposes it.

    Raises:
        Conflict: the knowledge base does not accept proposals, has too many, or the document
            cannot be changed here.
    """
    if not kb.accepts_proposed_documents:
        raise Conflict(
            f"{kb.name} does not accept proposed documents.",
            advice="An editor can switch it on in the settings of the knowledge base.",
        )
    waiting = select(ProposedDocument).where(
        ProposedDocument.kb_id == kb.id, ProposedDocument.state == ProposedDocumentState.OPEN
    )
    same = waiting.where(ProposedDocument.name == name, ProposedDocument.text == text)
    if (earlier := session.scalar(same)) is not None:
        return earlier
    if (session.scalar(select(func.count()).select_from(waiting.subquery())) or 0) >= MAX_OPEN:
        raise Conflict(
            f"{MAX_OPEN} proposed documents wait for a decision in {kb.name}.",
            advice="Accept or dismiss some before more are proposed.",
        )
    existing = _existing(session, kb, name)
    if existing is not None:
        _check_changeable(session, existing)
    row = ProposedDocument(
        id=new_id("proposed"),
        team_id=kb.team_id,
        kb_id=kb.id,
        name=name,
        text=text,
        reason=reason,
        replaces=None if existing is None else existing.latest_revision_id,
        document_id=None if existing is None else existing.id,
        proposed_by=person,
    )
    session.add(row)
    return row


def accept(
    session: Session, kb: Kb, row: ProposedDocument, person: str, sha256: str, size: int
) -> Added:
    """Add a proposed document, or a revision of the one that it changes.

    Args:
        session: A session of the records.
        kb: Its knowledge base.
        row: The proposal.
        person: Who accepts it.
        sha256: The stored bytes of its text.
        size: How many bytes.

    Raises:
        Conflict: it was decided, or the document changed after the proposal.
        QuotaReached: the team has no room for it.
    """
    check_open(row)
    existing = _existing(session, kb, row.name)
    if existing is not None:
        _check_changeable(session, existing)
    if row.replaces != (None if existing is None else existing.latest_revision_id):
        what = "was deleted" if existing is None else "has another text now"
        if row.replaces is None:
            what = "was added"
        raise Conflict(
            f"{row.name!r} {what}; the proposal was made before that.",
            advice="Dismiss it, and have it proposed again; or edit the document yourself.",
        )
    added = add_document(session, kb, row.name, sha256, size, None)
    _decide(row, ProposedDocumentState.ACCEPTED, person)
    row.document_id = added.document.id
    return added


def dismiss(row: ProposedDocument, person: str, note: str) -> None:
    """Dismiss a proposed document.

    Raises:
        Conflict: it was decided.
    """
    check_open(row)
    _decide(row, ProposedDocumentState.DISMISSED, person)
    row.note = note


def check_open(row: ProposedDocument) -> None:
    """Raise Conflict if a proposed document was accepted or dismissed."""
    if row.state != ProposedDocumentState.OPEN:
        raise Conflict(f"{row.name!r} was {row.state.value} by {row.decided_by} already.")


def _decide(row: ProposedDocument, state: ProposedDocumentState, person: str) -> None:
    # The text of an accepted one is the document's; that of a dismissed one is not wanted.
    row.state, row.decided_by, row.decided_at, row.text = state, person, now(), ""


def _existing(session: Session, kb: Kb, name: str) -> Document | None:
    query = select(Document).where(
        Document.kb_id == kb.id,
        Document.name == name,
        Document.state != DocumentState.REMOVED,
    )
    return session.scalar(query)


def _check_changeable(session: Session, document: Document) -> None:
    revision = session.get_one(Revision, document.latest_revision_id)
    if (reason := why_not_editable(document, revision)) is not None:
        raise Conflict(reason, advice="Choose another name for the proposal.")
