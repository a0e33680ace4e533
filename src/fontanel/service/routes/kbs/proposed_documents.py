"""Documents that programs propose: listed, read, accepted and dismissed."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from fontanel.engine.documents.editable import written_name
from fontanel.engine.documents.proposed import accept, check_open, dismiss, propose
from fontanel.errors import NotFound
from fontanel.records.tables import Kb, ProposedDocument, ProposedDocumentState, Revision
from fontanel.schemas import (
    AddedOut,
    ChangeOut,
    Page,
    ProposedDocumentDismissal,
    ProposedDocumentIn,
    ProposedDocumentOut,
    ProposedDocumentStateName,
    ProposedDocumentText,
)
from fontanel.service.auth.access import Access, Editor, EditorWrite
from fontanel.service.out.documents import added_out
from fontanel.service.out.text_changes import changes_out
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/kbs/{kb}/proposed-documents", "proposed documents")


@router.get("", summary="List proposed documents")
def list_proposed_documents(
    kb: str,
    access: Editor,
    state: ProposedDocumentStateName = "open",
    offset: Annotated[int, Query(ge=0, le=1_000_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
) -> Page[ProposedDocumentOut]:
    """The oldest first."""
    query = access.scope.select(ProposedDocument).where(
        ProposedDocument.kb_id == access.scope.kb(kb).id,
        ProposedDocument.state == ProposedDocumentState(state),
    )
    query = query.order_by(ProposedDocument.created_at, ProposedDocument.id)
    rows = access.session.scalars(query.offset(offset).limit(limit + 1)).all()
    more = str(offset + limit) if len(rows) > limit else None
    return Page(items=[_out(row) for row in rows[:limit]], next=more)


@router.post("", status_code=201, summary="Propose a document")
def propose_document(kb: str, body: ProposedDocumentIn, access: EditorWrite) -> ProposedDocumentOut:
    """Nothing is indexed until an editor accepts it. The same proposal twice is one."""
    name = written_name(body.name)
    kb_row = access.scope.kb(kb)
    row = propose(access.session, kb_row, name, body.text, body.reason, access.caller.name)
    access.session.flush()
    return _out(row)


@router.get("/{proposed}", summary="Show a proposed document")
def show_proposed_document(kb: str, proposed: str, access: Editor) -> ProposedDocumentText:
    """With what it changes of the revision that it was proposed to replace."""
    row = _find(access, access.scope.kb(kb), proposed)
    changes = _changes(access, row) if row.text and row.replaces is not None else []
    return ProposedDocumentText(**_out(row).model_dump(), text=row.text, changes=changes)


@router.post("/{proposed}/accept", status_code=202, summary="Accept a proposed document")
def accept_proposed_document(kb: str, proposed: str, access: Editor) -> AddedOut:
    """It becomes a document, or a revision of the one that has its name."""
    kb_row = access.scope.kb(kb)
    row = _find(access, kb_row, proposed)
    check_open(row)
    kb_id, text = kb_row.id, row.text
    access.release()
    sha256, size = access.runtime.blobs.put([text.encode()])
    with access.writing() as writing:
        kb_row = writing.scope.kb(kb_id)
        row = _find(writing, kb_row, proposed)
        added = accept(writing.session, kb_row, row, access.caller.name, sha256, size)
        writing.session.flush()
        return added_out(writing.session, added)


@router.post("/{proposed}/dismiss", summary="Dismiss a proposed document")
def dismiss_proposed_document(
    kb: str, proposed: str, body: ProposedDocumentDismissal, access: EditorWrite
) -> ProposedDocumentOut:
    row = _find(access, access.scope.kb(kb), proposed)
    dismiss(row, access.caller.name, body.note)
    access.session.flush()
    return _out(row)


def _changes(access: Access, row: ProposedDocument) -> list[ChangeOut]:
    query = access.scope.select(Revision).where(Revision.id == row.replaces)
    revision = access.session.scalar(query)
    if revision is None or revision.original_deleted_at is not None:
        return []
    before = access.runtime.blobs.path(revision.sha256).read_text("utf-8", "replace")
    return changes_out(before.splitlines(), row.text.splitlines())


def _find(access: Access, kb: Kb, ref: str) -> ProposedDocument:
    query = access.scope.select(ProposedDocument).where(
        ProposedDocument.kb_id == kb.id, ProposedDocument.id == ref
    )
    row = access.session.scalar(query)
    if row is None:
        raise NotFound("proposed document", ref)
    return row


def _out(row: ProposedDocument) -> ProposedDocumentOut:
    return ProposedDocumentOut(
        id=row.id,
        name=row.name,
        reason=row.reason,
        state=row.state.value,
        replaces=row.replaces,
        characters=len(row.text),
        proposed_by=row.proposed_by,
        decided_by=row.decided_by,
        note=row.note,
        document_id=row.document_id,
        created_at=row.created_at,
        decided_at=row.decided_at,
    )
