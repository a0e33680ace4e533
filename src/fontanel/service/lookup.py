"""Records that several routes look up by what a request names."""

from __future__ import annotations

import re
from pathlib import Path

from sqlalchemy import Select, func, select

from fontanel.engine.answering.retrieval import KbKnowledge
from fontanel.engine.documents.outdated import outdated_documents
from fontanel.errors import NotFound
from fontanel.records.tables import Document, DocumentState, Edition, Kb, Revision
from fontanel.schemas import (
    DocumentSelection,
)
from fontanel.service.auth.access import Access
from fontanel.service.problems import ApiError


def selected_documents(access: Access, kb: Kb, chosen: DocumentSelection) -> Select[Document]:
    """A query for the documents that are meant."""
    query = access.scope.select(Document).where(Document.kb_id == kb.id)
    if chosen.documents:
        query = query.where(Document.id.in_(chosen.documents) | Document.name.in_(chosen.documents))
    query = query.where(
        Document.state == chosen.state if chosen.state else Document.state != DocumentState.REMOVED
    )
    if chosen.source:
        requested = None if chosen.source == "none" else access.scope.source(kb, chosen.source).id
        query = query.where(Document.source_id == requested)
    if chosen.folder:
        prefix = chosen.folder.strip("/") + "/"
        query = query.where(func.substr(Document.name, 1, len(prefix)) == prefix)
    if chosen.name:
        part = "%" + re.sub(r"([%_!])", r"!\1", chosen.name) + "%"
        query = query.where(
            Document.name.ilike(part, escape="!") | Document.title.ilike(part, escape="!")
        )
    if chosen.warnings:
        warned = select(Revision.id).where(func.json_array_length(Revision.warnings) > 0)
        query = query.where(Document.latest_revision_id.in_(warned))
    if chosen.outdated:
        outdated = outdated_documents(access.session, kb.id)
        query = query.where(Document.key.in_(outdated))
    for tag, value in chosen.tags.items():
        query = query.where(Document.key.in_(access.scope.keys_with_tag(kb, tag, value)))
    return query


def revision_of(
    access: Access, kb: str, document: str, ref: str | None
) -> tuple[Document, Revision]:
    """Return the requested revision, or else the active one, or the newest."""
    document_row = access.scope.document(access.scope.kb(kb), document)
    requested = ref or document_row.revision_id or document_row.latest_revision_id
    query = access.scope.select(Revision).where(
        Revision.document_key == document_row.key, Revision.id == requested
    )
    revision = access.session.scalar(query)
    if revision is None:
        raise NotFound("revision", requested)
    return document_row, revision


def original_of(access: Access, revision: Revision) -> Path:
    """Return the file of a revision's original.

    Raises:
        ApiError: not-found, if it was deleted after the team's retention.
    """
    if revision.original_deleted_at is not None:
        raise ApiError(
            "not-found",
            f"The original of this revision was deleted on {revision.original_deleted_at:%Y-%m-%d},"
            " as the team keeps originals of earlier revisions for a limited time.",
            advice="Its text can still be read; newer revisions have their originals.",
        )
    return access.runtime.blobs.path(revision.sha256)


def edition_of(access: Access, kb: Kb, number: int, field: str | None = None) -> Edition:
    """Return a knowledge base's edition by its number.

    Raises:
        ApiError: not-found, naming the request's field.
    """
    result = access.session.scalar(
        access.scope.select(Edition).where(Edition.kb_id == kb.id, Edition.number == number)
    )
    if result is None:
        raise ApiError("not-found", f"The knowledge base has no edition {number}.", field=field)
    return result


def kb_knowledge(
    access: Access,
    kb: Kb,
    tags: dict[str, str] | None = None,
    documents: list[str] | None = None,
    edition: Edition | None = None,
) -> KbKnowledge:
    """Return a knowledge base for searching, in its active or another edition."""
    edition = edition or access.session.get_one(Edition, kb.edition_id)
    snapshot = access.runtime.editions.snapshot(edition.id)
    return KbKnowledge(
        scope=access.scope,
        kb=kb,
        snapshot=snapshot,
        embedder=edition.embedder,
        local_models=access.runtime.local_models,
        tags=tags,
        documents=documents,
    )
