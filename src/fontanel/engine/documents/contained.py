"""Files inside files, as documents of their own."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.documents.documents import add_document, delete_document
from fontanel.engine.documents.naming import document_name
from fontanel.engine.ingest.reading import StoredFile
from fontanel.errors import QuotaReached, Refused
from fontanel.facts import MAX_TAGS
from fontanel.records.tables import (
    Document,
    Kb,
    Revision,
)

#: The maximum nesting of files in files.
_MAX_DEPTH = 4


#: The maximum number of files in one file, at all depths together, and their bytes.
_MAX_INSIDE, _MAX_INSIDE_BYTES = 10_000, 1_000_000_000


def add_contained(session: Session, document: Document, inside: Sequence[StoredFile]) -> str | None:
    """Add the files inside a document as documents named below it.

    Remove missing ones.

    Nested files are added up to a depth, number and total size: archives in archives can unpack to
    far more than either.

    Returns:
        A warning if files were left out, else None.
    """
    kb = session.get_one(Kb, document.kb_id)
    kept: set[str] = set()
    left, room = _room_inside(session, document) if inside else (0, 0)
    left_out, reached = 0, ""
    for item in inside if _depth(session, document) < _MAX_DEPTH else ():
        left, room = left - 1, room - item.size
        if left < 0 or room < 0:
            left_out += 1
            continue
        try:
            name = document_name(f"{document.name}/{item.name}")
        except Refused:
            continue
        kept.add(name)
        tags = {**document.tags, **item.tags}
        try:
            added = add_document(
                session, kb, name, item.sha256, item.size, dict(list(tags.items())[:MAX_TAGS])
            )
        except QuotaReached as error:
            reached, left_out = str(error), left_out + 1
            continue
        added.document.parent_key = document.key
        added.document.source_id = document.source_id
    for member in session.scalars(
        select(Document).where(Document.parent_key == document.key)
    ).all():
        if member.name not in kept:
            delete_document(session, kb, member)
    if not left_out:
        return None
    if reached:
        return f"{left_out:,} files inside were left out: {reached}"
    return (
        f"{left_out:,} files inside were left out: of one file {_MAX_INSIDE:,} are taken and "
        f"{_MAX_INSIDE_BYTES // 1_000_000:,} MB, those in archives inside it included"
    )


def _room_inside(session: Session, document: Document) -> tuple[int, int]:
    """Return how many more files, and bytes, the outermost file may contain.

    The document's own do not count.
    """
    root = document
    while (
        root.parent_key is not None
        and (parent := session.get(Document, root.parent_key)) is not None
    ):
        root = parent
    there = [
        Document.kb_id == root.kb_id,
        Document.name > f"{root.name}/",
        Document.name < f"{root.name}0",
        Document.parent_key.is_not(None),
        Document.parent_key != document.key,
    ]
    sizes = select(func.count(), func.coalesce(func.sum(Revision.size), 0)).select_from(Document)
    count, size = session.execute(
        sizes.join(Revision, Revision.id == Document.latest_revision_id).where(*there)
    ).one()
    return _MAX_INSIDE - count, _MAX_INSIDE_BYTES - size


def _depth(session: Session, document: Document) -> int:
    depth = 0
    while document.parent_key is not None and depth < _MAX_DEPTH:
        parent = session.get(Document, document.parent_key)
        if parent is None:
            break
        document, depth = parent, depth + 1
    return depth
