"""Documents, revisions and jobs as the API returns them."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.documents.documents import Added
from fontanel.records.tables import Document, DocumentState, Job, Revision
from fontanel.schemas import (
    AddedOut,
    DocumentOut,
    JobOut,
    RevisionOut,
    ValidityOut,
)
from fontanel.service.out.validity import validities_out


def document_out(session: Session, document: Document) -> DocumentOut:
    """A document as callers see it."""
    return documents_out(session, [document])[0]


def _document_out(
    session: Session, document: Document, revision: Revision, validity: ValidityOut | None
) -> DocumentOut:
    parent = session.get(Document, document.parent_key) if document.parent_key is not None else None
    return DocumentOut(
        id=document.id,
        kb_id=document.kb_id,
        name=document.name,
        title=document.title,
        description=document.description,
        described_by=document.described_by,
        parent=parent.id if parent else None,
        source=document.source_id,
        link=document.link,
        validity=validity,
        state=DocumentState(document.state).value,
        progress=document.progress,
        error_code=document.error_code,
        error=document.error,
        tags=document.tags,
        revision=RevisionOut.model_validate(revision),
        active_revision=document.revision_id,
        created_at=document.created_at,
        changed_at=document.changed_at,
        version=document.version,
    )


def documents_out(session: Session, documents: Sequence[Document]) -> list[DocumentOut]:
    """The same of many, whose revisions and validity are looked up at once."""
    requested = [document.latest_revision_id for document in documents]
    revisions = {
        one.id: one for one in session.scalars(select(Revision).where(Revision.id.in_(requested)))
    }
    validities = validities_out(session, documents)
    return [
        _document_out(
            session,
            document,
            revisions[document.latest_revision_id],
            validities.get(document.key),
        )
        for document in documents
    ]


def job_out(session: Session, job: Job) -> JobOut:
    document = session.get_one(Document, job.document_key)
    return JobOut(
        id=job.id,
        document_id=document.id,
        stage=job.stage,
        state=job.state,
        done=job.done,
        total=job.total,
        attempts=job.attempts,
        error=job.error,
        created_at=job.created_at,
        changed_at=job.changed_at,
    )


def added_out(session: Session, added: Added) -> AddedOut:
    """Return what adding a document did."""
    return AddedOut(
        outcome=added.outcome,
        document=document_out(session, added.document),
        job=job_out(session, added.job) if added.job else None,
    )
