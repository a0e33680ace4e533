"""Files inside files, as documents of their own."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from sqlalchemy import and_, func, or_, select
from sqlalchemy.orm import Session

from fontanel.engine.documents.documents import (
    NewDocument,
    add_new_documents,
    delete_document,
    revise_document,
)
from fontanel.engine.documents.naming import document_name, set_tags
from fontanel.engine.quotas.quotas import room_of
from fontanel.errors import QuotaReached, Refused
from fontanel.facts import MAX_TAGS, DocumentState
from fontanel.records.tables import Document, Job, Kb, Revision
from fontanel.records.unit_of_work import Records

#: The maximum nesting of files in files.
_MAX_DEPTH = 4
#: The maximum number of files in one file, at all depths together, and their bytes.
_MAX_INSIDE, _MAX_INSIDE_BYTES = 10_000, 1_000_000_000
#: Files that are added in one unit of work before the document itself is committed.
_TOGETHER = 200


@dataclass(frozen=True, slots=True)
class StoredFile:
    """A file found inside a document, its bytes stored already."""

    name: str
    sha256: str
    size: int
    tags: dict[str, str]


def add_many_contained(records: Records, job: Job, inside: Sequence[StoredFile]) -> None:
    """Add most of the new files inside a document before it is committed with the others.

    If there are many, others can write between units of work. What is added is found there when the
    document is committed, or read again after an interruption.
    """
    if len(inside) <= _TOGETHER:
        return
    with records.reading() as session:
        document = _still_wanted(session, job)
        if document is None:
            return
        there = _below(session, document)
        wanted, _ = _within_bounds(session, document, inside)
        new = [item for item in wanted.items() if item[0] not in there]
    for start in range(0, len(new), _TOGETHER):
        some = dict(new[start : start + _TOGETHER])
        with records.writing() as session:
            document = _still_wanted(session, job)
            if document is None or not _add_some(session, document, some):
                return


def _add_some(session: Session, document: Document, files: dict[str, StoredFile]) -> bool:
    """Add files of which some may be there now; return whether there is room for more."""
    kb = session.get_one(Kb, document.kb_id)
    taken = select(Document.name).where(Document.kb_id == kb.id, Document.name.in_(files))
    there = set(session.scalars(taken))
    room = room_of(session, kb.team_id)
    new: list[NewDocument] = []
    with contextlib.suppress(QuotaReached):
        for name, item in files.items():
            if name not in there:
                room.take(documents=1, size=item.size)
                new.append(_new(document, name, item))
    add_new_documents(session, kb, new, document)
    return len(new) + len(there) == len(files)


def _still_wanted(session: Session, job: Job) -> Document | None:
    """Return the document of a job if its revision is still the latest one."""
    document = session.get(Document, job.document_key)
    if document is None or document.state == DocumentState.REMOVED:
        return None
    return document if document.latest_revision_id == job.revision_id else None


def _new(document: Document, name: str, item: StoredFile) -> NewDocument:
    return NewDocument(name, item.sha256, item.size, _tags(document, item))


def _tags(document: Document, item: StoredFile) -> dict[str, str]:
    """Return the tags of a file inside a document: the document's and its own."""
    return dict(list({**document.tags, **item.tags}.items())[:MAX_TAGS])


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
        try:
            if name not in there:
                room.take(documents=1, size=item.size)
                new.append(_new(document, name, item))
            elif not there[name].is_same(document, item):
                _revise(session, document, there[name], item)
        except QuotaReached as error:
            reached, left_out = str(error), left_out + 1
    if new:
        add_new_documents(session, kb, new, document)
    for name, left in there.items():
        if name not in wanted and left.parent_key == document.key:
            delete_document(session, kb, session.get_one(Document, left.key))
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


class _Member(NamedTuple):
    """A document in another one, or named below it, with its latest revision."""

    name: str
    key: int
    parent_key: int | None
    source_id: str | None
    state: DocumentState
    tags: dict[str, str]
    sha256: str | None
    columns: dict[str, Any] | None

    def is_same(self, document: Document, item: StoredFile) -> bool:
        """Return whether the document is the file as it was read before."""
        return (
            (self.parent_key, self.source_id) == (document.key, document.source_id)
            and (self.sha256, self.columns) == (item.sha256, None)
            and self.tags == _tags(document, item)
            and self.state not in (DocumentState.FAILED, DocumentState.REMOVED)
        )


def _revise(session: Session, document: Document, there: _Member, item: StoredFile) -> None:
    """Give a document inside another one the file that is there now."""
    member = session.get_one(Document, there.key)
    if (tags := _tags(document, item)) != member.tags:
        set_tags(session, member, tags)
    revise_document(session, member, item.sha256, item.size)
    member.parent_key, member.source_id = document.key, document.source_id


def _below(session: Session, document: Document) -> dict[str, _Member]:
    """Return the documents in a document, or named below it, by their names.

    One in it can have an older name, if what contains the document was renamed.
    """
    columns = select(
        Document.name,
        Document.key,
        Document.parent_key,
        Document.source_id,
        Document.state,
        Document.tags,
        Revision.sha256,
        Revision.columns,
    )
    rows = session.execute(
        columns.outerjoin(Revision, Revision.id == Document.latest_revision_id).where(
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
    return {row.name: _Member(*row) for row in rows}


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
