"""What repeats on the web pages of one source, folder or archive, and is left out of the index.

The first pages are read before anything is known to repeat; they are read again once it is.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Collection, Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.core.reading.repetition import Repeated, find_repeated
from fontanel.engine.documents.documents import retry_document
from fontanel.facts import DocumentState
from fontanel.records.tables import Document, PageEdges
from fontanel.records.unit_of_work import Records

#: Collections whose repeated blocks are cached in memory.
_MAX_CACHED = 200
#: What repeats is found again once the number of pages has changed by one part in this many.
_STEADY = 10
_READ = (DocumentState.KEYWORD_READY, DocumentState.INDEXED)

_Key = tuple[str, str]
_NOTHING = Repeated(0, {})


class RepeatedBlocks:
    """What repeats in each collection of pages, found again as collections grow."""

    def __init__(self, records: Records) -> None:
        self._records = records
        self._lock = threading.Lock()
        self._cached: OrderedDict[_Key, Repeated] = OrderedDict()

    def left_out_of(self, session: Session, document: Document) -> list[str]:
        """Return the fingerprints of the blocks that are left out of a document's edges."""
        repeated, _ = self._find(session, (document.kb_id, collection_of(document)))
        return [mark for mark, owner in repeated.owners.items() if owner != document.key]

    def read_again(self, documents: Collection[int]) -> None:
        """Queue pages that were read before it was known what repeats on them.

        Args:
            documents: The keys of the documents that were just read.
        """
        with self._records.reading() as session:
            rows = session.scalars(
                select(PageEdges).where(PageEdges.document_key.in_(documents))
            ).all()
            due: set[int] = set()
            for key in {(row.kb_id, row.collection) for row in rows}:
                repeated, renewed = self._find(session, key)
                pages = _pages(session, key) if renewed else rows
                due |= {
                    row.document_key
                    for row in pages
                    if (row.kb_id, row.collection) == key
                    and repeated.on(row.document_key, row.fingerprints) != set(row.left_out)
                }
        if not due:
            return
        with self._records.writing() as session:
            for number in sorted(due):
                document = session.get(Document, number)
                if document is not None and document.state in _READ:
                    retry_document(session, document)

    def _find(self, session: Session, key: _Key) -> tuple[Repeated, bool]:
        """Return what repeats in a collection, and whether that was found again."""
        count = session.scalar(
            select(func.count())
            .select_from(PageEdges)
            .where(PageEdges.kb_id == key[0], PageEdges.collection == key[1])
        )
        with self._lock:
            repeated = self._cached.get(key, _NOTHING)
            if abs((count or 0) - repeated.pages) * _STEADY < max(repeated.pages, 1):
                return repeated, False
            found = find_repeated(
                {row.document_key: row.fingerprints for row in _pages(session, key)}
            )
            self._cached[key] = found
            self._cached.move_to_end(key)
            if len(self._cached) > _MAX_CACHED:
                self._cached.popitem(last=False)
            return found, found.owners != repeated.owners


def record_edges(
    session: Session, document: Document, edges: Sequence[str], repeated: Collection[str]
) -> None:
    """Record the edges of a page that was read, and which of their blocks were left out."""
    row = session.get(PageEdges, document.key)
    if not edges:
        if row is not None:
            session.delete(row)
        return
    if row is None:
        row = PageEdges(document_key=document.key, team_id=document.team_id, kb_id=document.kb_id)
        session.add(row)
    row.collection = collection_of(document)
    row.fingerprints = list(edges)
    row.left_out = sorted({*edges} & {*repeated})


def collection_of(document: Document) -> str:
    """Return the collection whose pages are compared with a document.

    Its source; or the archive that contains it; or the folder of its name.
    """
    if document.source_id is not None:
        return f"source:{document.source_id}"
    if document.parent_key is not None:
        return f"inside:{document.parent_key}"
    folder, slash, _ = document.name.partition("/")
    return f"folder:{folder}" if slash else "folder:"


def _pages(session: Session, key: _Key) -> Sequence[PageEdges]:
    return session.scalars(
        select(PageEdges).where(PageEdges.kb_id == key[0], PageEdges.collection == key[1])
    ).all()
