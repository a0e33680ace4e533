"""Indexing an edition from scratch."""

from __future__ import annotations

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from fontanel.engine.documents.documents import retry_document
from fontanel.engine.documents.states import NOT_INDEXED
from fontanel.engine.ingest.queue import add_standby_job
from fontanel.records.tables import (
    Document,
    Edition,
    Kb,
    PassageRow,
    Segment,
    Tombstone,
)
from fontanel.records.unit_of_work import mark_edition_changed


def reindex_all(session: Session, edition_id: str) -> int:
    """Queue every document of an edition for reindexing, since its files are damaged."""
    edition = session.get(Edition, edition_id)
    if edition is None:
        return 0
    mark_edition_changed(session, edition_id)
    for table in (PassageRow, Segment, Tombstone):
        session.execute(delete(table).where(table.edition_id == edition_id))
    documents = session.scalars(
        select(Document).where(Document.kb_id == edition.kb_id, Document.state.not_in(NOT_INDEXED))
    ).all()
    active = session.scalar(select(Kb.id).where(Kb.edition_id == edition_id)) is not None
    for document in documents:
        if active:
            retry_document(session, document)
        else:
            add_standby_job(session, document, document.latest_revision_id, edition_id)
    return len(documents)
