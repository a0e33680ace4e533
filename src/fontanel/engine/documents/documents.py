"""Documents added, tagged and deleted; knowledge bases created and deleted."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import PurePosixPath
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.documents import states
from fontanel.engine.documents.naming import set_tags, tag_rows
from fontanel.engine.ingest.passages import retire_passages
from fontanel.engine.ingest.queue import add_first_jobs, add_job, drop_waiting_jobs
from fontanel.engine.quotas.quotas import check_room
from fontanel.records.ids import new_id
from fontanel.records.tables import (
    Document,
    DocumentState,
    Edition,
    Job,
    Kb,
    Revision,
)


@dataclass(frozen=True, slots=True)
class Added:
    """The effect of adding bytes: a new document, a new revision, or nothing."""

    document: Document
    outcome: str
    job: Job | None


@dataclass(frozen=True, slots=True)
class NewDocument:
    """A document that a knowledge base does not have yet."""

    name: str
    sha256: str
    size: int
    tags: dict[str, str]


def add_document(
    session: Session,
    kb: Kb,
    name: str,
    sha256: str,
    size: int,
    tags: Mapping[str, str] | None,
    columns: dict[str, Any] | None = None,
) -> Added:
    """Add a document or a revision, or nothing if bytes and columns are unchanged.

    Raises:
        QuotaReached: the team has no room for it.
    """
    document = session.scalar(
        select(Document).where(Document.kb_id == kb.id, Document.name == name)
    )
    if document is not None:
        if tags is not None and tags != document.tags:
            set_tags(session, document, tags)
        return revise_document(session, document, sha256, size, columns)
    check_room(session, kb.team_id, documents=1, size=size)
    document = Document(
        id=new_id("doc"),
        team_id=kb.team_id,
        kb_id=kb.id,
        name=name,
        title=PurePosixPath(name).stem,
        state=DocumentState.WAITING,
        latest_revision_id="",
        tags={},
    )
    session.add(document)
    session.flush()
    set_tags(session, document, tags or {})
    return Added(document, "added", _add_revision(session, document, 1, sha256, size, columns))


def add_new_documents(
    session: Session, kb: Kb, files: Sequence[NewDocument], parent: Document
) -> None:
    """Add many documents inside another one, in few statements.

    The caller has checked that none of the names is taken, and that there is room for all.
    """
    revisions = [new_id("rev") for _ in files]
    documents = [
        Document(
            id=new_id("doc"),
            team_id=kb.team_id,
            kb_id=kb.id,
            parent_key=parent.key,
            source_id=parent.source_id,
            name=file.name,
            title=PurePosixPath(file.name).stem,
            state=DocumentState.WAITING,
            latest_revision_id=revision_id,
            tags=file.tags,
        )
        for file, revision_id in zip(files, revisions, strict=True)
    ]
    session.add_all(documents)
    session.flush()
    for file, document in zip(files, documents, strict=True):
        session.add_all(tag_rows(document))
        session.add(_revision(document, document.latest_revision_id, 1, file.sha256, file.size))
    session.flush()
    add_first_jobs(session, kb, documents)


def revise_document(
    session: Session,
    document: Document,
    sha256: str,
    size: int,
    columns: dict[str, Any] | None = None,
) -> Added:
    """Add a revision unless it equals the newest.

    Re-read a removed or failed document.

    Raises:
        QuotaReached: the team has no room for it.
    """
    latest = session.get(Revision, document.latest_revision_id)
    same = latest is not None and latest.sha256 == sha256 and latest.columns == columns
    if same and document.state not in (DocumentState.FAILED, DocumentState.REMOVED):
        return Added(document, "unchanged", None)
    returns = document.state == DocumentState.REMOVED
    check_room(session, document.team_id, documents=int(returns), size=size)
    number = 1 + (
        session.scalar(
            select(func.max(Revision.number)).where(Revision.document_key == document.key)
        )
        or 0
    )
    return Added(
        document, "revised", _add_revision(session, document, number, sha256, size, columns)
    )


def _add_revision(
    session: Session,
    document: Document,
    number: int,
    sha256: str,
    size: int,
    columns: dict[str, Any] | None,
) -> Job:
    revision = _revision(document, new_id("rev"), number, sha256, size, columns)
    session.add(revision)
    session.flush()
    document.latest_revision_id = revision.id
    states.queue(document)
    document.version += 1
    return add_job(session, document, revision.id)


def _revision(
    document: Document,
    revision_id: str,
    number: int,
    sha256: str,
    size: int,
    columns: dict[str, Any] | None = None,
) -> Revision:
    return Revision(
        id=revision_id,
        team_id=document.team_id,
        document_key=document.key,
        number=number,
        sha256=sha256,
        size=size,
        warnings=[],
        seconds={},
        columns=columns,
    )


def remove_document(session: Session, kb: Kb, document: Document) -> None:
    """Remove a document from searches and answers, since it left its source.

    So are the files inside it. Its revisions remain for a while, for their citations and in case it
    returns.
    """
    for member in session.scalars(
        select(Document).where(Document.parent_key == document.key)
    ).all():
        remove_document(session, kb, member)
    for edition_id in session.scalars(select(Edition.id).where(Edition.kb_id == kb.id)).all():
        retire_passages(session, edition_id, document)
    drop_waiting_jobs(session, document)
    states.remove(document)
    document.version += 1


def rename_document(session: Session, document: Document, name: str) -> None:
    """Rename a document; one that is titled by its name is read again."""
    titled_by_name = document.title == PurePosixPath(document.name).stem
    old = document.name
    document.name = name
    document.version += 1
    for member in session.scalars(
        select(Document).where(Document.parent_key == document.key)
    ).all():
        member.name = name + member.name.removeprefix(old)
    if titled_by_name and document.state != DocumentState.REMOVED:
        document.title = PurePosixPath(name).stem
        retry_document(session, document)


def retry_document(session: Session, document: Document) -> Job:
    """Read a document's latest revision again."""
    states.queue(document)
    return add_job(session, document, document.latest_revision_id)


def delete_document(session: Session, kb: Kb, document: Document) -> None:
    """Delete a document with its revisions, contained files and indexed passages.

    Everything is in the caller's transaction.
    """
    for member in session.scalars(
        select(Document).where(Document.parent_key == document.key)
    ).all():
        delete_document(session, kb, member)
    for edition_id in session.scalars(select(Edition.id).where(Edition.kb_id == kb.id)).all():
        retire_passages(session, edition_id, document)
    session.delete(document)
