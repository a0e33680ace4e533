"""Files inside files, as documents of their own."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence

from sqlalchemy import and_, func, or_, select
from sqlalchemy.orm import Session

from fontanel.engine.documents.documents import (
    NewDocument,
    add_new_documents,
    delete_document,
    revise_document,
)
from fontanel.engine.documents.naming import document_name, set_tags
from fontanel.engine.ingest.reading import StoredFile
from fontanel.engine.quotas.quotas import room_of
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
    there = _below(session, document)
    wanted, left_out = _within_bounds(session, document, inside)
    reached = ""
    new: list[NewDocument] = []
    room = room_of(session, kb.team_id) if wanted else None
    for name, item in wanted.items():
        assert room is not None
        tags = dict(list({**document.tags, **item.tags}.items())[:MAX_TAGS])
        try:
            if name not in there:
                room.take(documents=1, size=item.size)
                new.append(NewDocument(name, item.sha256, item.size, tags))
                continue
            member = there[name]
            if tags != member.tags:
                set_tags(session, member, tags)
            revise_document(session, member, item.sha256, item.size)
            member.parent_key, member.source_id = document.key, document.source_id
        except QuotaReached as error:
            reached, left_out = str(error), left_out + 1
    if new:
        add_new_documents(session, kb, new, document)
    for name, member in there.items():
        if name not in wanted and member.parent_key == document.key:
            delete_document(session, kb, member)
    if not left_out:
        return None
    if reached:
        return f"{left_out:,} files inside were left out: {reached}"
    return (
        f"{left_out:,} files inside were left out: of one file {_MAX_INSIDE:,} are taken and "
        f"{_MAX_INSIDE_BYTES // 1_000_000:,} MB, those in archives inside it included"
    )


def _within_bounds(
    session: Session, document: Document, inside: Sequence[StoredFile]
) -> tuple[dict[str, StoredFile], int]:
    """Return the files to add by the names of their documents, and how many are left out."""
    wanted: dict[str, StoredFile] = {}
    left, room = _room_inside(session, document) if inside else (0, 0)
    left_out = 0
    for item in inside if _depth(session, document) < _MAX_DEPTH else ():
        left, room = left - 1, room - item.size
        if left < 0 or room < 0:
            left_out += 1
            continue
        with contextlib.suppress(Refused):
            wanted[document_name(f"{document.name}/{item.name}")] = item
    return wanted, left_out


def _below(session: Session, document: Document) -> dict[str, Document]:
    """Return the documents in a document, or named below it, with their latest revisions loaded.

    One in it can have an older name, if what contains the document was renamed.
    """
    rows = session.execute(
        select(Document, Revision)
        .outerjoin(Revision, Revision.id == Document.latest_revision_id)
        .where(
            Document.kb_id == document.kb_id,
            or_(
                Document.parent_key == document.key,
                and_(
                    Document.name > f"{document.name}/",
                    Document.name < f"{document.name}0",
                ),
            ),
        )
    )
    return {member.name: member for member, _ in rows}


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
