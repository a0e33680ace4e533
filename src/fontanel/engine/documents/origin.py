"""Where a document comes from: its source, and the run that brought a revision."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.records.tables import Document, SyncItem

#: How deep files inside files are followed.
_MAX_DEPTH = 8


@dataclass(frozen=True, slots=True)
class Origin:
    """A source and one of its runs; both None for what people added."""

    source_id: str | None = None
    sync_id: str | None = None


NO_ORIGIN = Origin()


def origin_of(session: Session, document_key: int, revision_id: str) -> Origin:
    """Return where a revision comes from: for a file inside a file, that of the outermost one."""
    document = session.get(Document, document_key)
    if document is None or document.source_id is None:
        return NO_ORIGIN
    source_id = document.source_id
    for _ in range(_MAX_DEPTH):
        run = select(SyncItem.sync_id).where(SyncItem.revision_id == revision_id)
        sync_id: str | None = session.scalar(run.order_by(SyncItem.key.desc()).limit(1))
        if sync_id is not None or document.parent_key is None:
            return Origin(source_id, sync_id)
        document = session.get(Document, document.parent_key)
        if document is None:
            break
        revision_id = document.latest_revision_id
    return Origin(source_id)
