"""Documents added, tagged and deleted; knowledge bases created and deleted."""

from __future__ import annotations

import json
import re
import unicodedata
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import timedelta
from pathlib import PurePosixPath
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from fontanel.core.analysis import ANALYSER_VERSION
from fontanel.core.splitting import SplitSettings
from fontanel.records.blobs import BlobStore
from fontanel.records.ids import new_id, slug_of
from fontanel.records.tables import (
    Document,
    DocumentState,
    DocumentTag,
    Edition,
    Job,
    Kb,
    PassageRow,
    Revision,
    Segment,
    Tombstone,
    now,
)
from fontanel.work.ingest import Inside
from fontanel.work.passages import retire_passages
from fontanel.work.queue import add_job, add_job_beside, drop_waiting_jobs

#: States in which an edition that is built holds nothing of a document.
NOT_INDEXED = (DocumentState.FAILED, DocumentState.REMOVED)

_TAG = re.compile(r"^[\w.-]{1,60}$")
MOST_TAGS = 32
#: How deep files are taken out of files.
_MOST_DEPTH = 4
#: How many files are taken out of one file, at all depths together, and how many bytes.
_MOST_INSIDE, _MOST_INSIDE_BYTES = 10_000, 1_000_000_000


class Refused(ValueError):
    """What was asked for cannot be taken as it is. `field` names the part at fault."""

    def __init__(self, field: str, message: str) -> None:
        super().__init__(message)
        self.field = field


@dataclass(frozen=True, slots=True)
class Added:
    """What adding bytes under a name did: a new document, a new revision, or nothing since the bytes are the same."""

    document: Document
    outcome: str
    job: Job | None


def document_name(raw: str) -> str:
    """A safe name: relative, with forward slashes, without anything that would lead out of a folder. Raises Refused."""
    name = unicodedata.normalize("NFC", raw).replace("\\", "/")
    name = "".join(c for c in name if c.isprintable())
    parts = [part.strip() for part in name.split("/") if part.strip() not in ("", ".", "..")]
    clean = "/".join(parts)
    if not clean or len(clean) > 400:
        raise Refused("name", f"{raw[:80]!r} cannot be a document's name. Give one of 1 to 400 characters.")
    return clean


def check_tags(tags: Mapping[str, str]) -> dict[str, str]:
    """Tags fit to be kept. Raises Refused."""
    if len(tags) > MOST_TAGS:
        raise Refused("tags", f"A document can have {MOST_TAGS} tags; {len(tags)} were given.")
    for tag, value in tags.items():
        if not _TAG.match(tag):
            raise Refused("tags", f"{tag[:60]!r} cannot be a tag's name. Use letters, digits, '.', '_' and '-'.")
        if not value or len(value) > 200:
            raise Refused("tags", f"The value of the tag {tag!r} must have 1 to 200 characters.")
    return dict(tags)


def create_kb(
    session: Session, team_id: str, name: str, description: str, embedder: str | None, lives: timedelta | None = None,
    split: SplitSettings | None = None,
) -> Kb:  # fmt: skip
    """A knowledge base with its first edition. Raises Refused when the team has one of that name."""
    slug = base = slug_of(name)
    if session.scalar(select(Kb.id).where(Kb.team_id == team_id, func.lower(Kb.name) == name.lower())):
        raise Refused("name", f"There is a knowledge base named {name!r} already. Choose another name.")
    number = 1
    while session.scalar(select(Kb.id).where(Kb.team_id == team_id, Kb.slug == slug)):
        number += 1
        slug = f"{base}-{number}"
    kb = Kb(
        id=new_id("kb"), team_id=team_id, slug=slug, name=name, description=description, edition_id=new_id("ed"),
        expires_at=now() + lives if lives else None,
    )  # fmt: skip
    session.add(kb)
    session.flush()
    settings = {**asdict(split or SplitSettings()), "analyser": ANALYSER_VERSION}
    session.add(Edition(id=kb.edition_id, team_id=team_id, kb_id=kb.id, embedder=embedder, settings=settings))
    return kb


def add_document(
    session: Session, kb: Kb, name: str, sha256: str, size: int, tags: Mapping[str, str] | None,
    columns: dict[str, Any] | None = None,
) -> Added:  # fmt: skip
    """A new document, a new revision of the document of that name, or nothing when its bytes (and what its columns mean)
    are the same."""
    document = session.scalar(select(Document).where(Document.kb_id == kb.id, Document.name == name))
    if document is not None:
        if tags is not None and tags != document.tags:
            set_tags(session, document, tags)
        return revise_document(session, document, sha256, size, columns)
    document = Document(
        id=new_id("doc"), team_id=kb.team_id, kb_id=kb.id, name=name, title=PurePosixPath(name).stem,
        state=DocumentState.WAITING, latest_revision_id="", tags={},
    )  # fmt: skip
    session.add(document)
    session.flush()
    set_tags(session, document, tags or {})
    return Added(document, "added", _add_revision(session, document, 1, sha256, size, columns))


def revise_document(
    session: Session, document: Document, sha256: str, size: int, columns: dict[str, Any] | None = None
) -> Added:
    """A new revision of a document, or nothing when its newest one is the same; one that was removed or failed is read again."""
    latest = session.get(Revision, document.latest_revision_id)
    same = latest is not None and latest.sha256 == sha256 and latest.columns == columns
    if same and document.state not in (DocumentState.FAILED, DocumentState.REMOVED):
        return Added(document, "unchanged", None)
    number = 1 + (session.scalar(select(func.max(Revision.number)).where(Revision.document_key == document.key)) or 0)
    return Added(document, "revised", _add_revision(session, document, number, sha256, size, columns))


def _add_revision(
    session: Session, document: Document, number: int, sha256: str, size: int, columns: dict[str, Any] | None
) -> Job:
    revision = Revision(
        id=new_id("rev"), team_id=document.team_id, document_key=document.key, number=number, sha256=sha256, size=size,
        warnings=[], seconds={}, columns=columns,
    )  # fmt: skip
    session.add(revision)
    session.flush()
    document.latest_revision_id = revision.id
    document.state, document.progress = DocumentState.WAITING, None
    document.error = document.error_code = None
    document.version += 1
    return add_job(session, document, revision.id)


def remove_document(session: Session, kb: Kb, document: Document) -> None:
    """Take a document out of searches and answers since it left its source, with what was found inside it. Its revisions stay a
    while, for what cites them and in case it comes back."""
    for member in session.scalars(select(Document).where(Document.parent_key == document.key)).all():
        remove_document(session, kb, member)
    for edition_id in session.scalars(select(Edition.id).where(Edition.kb_id == kb.id)).all():
        retire_passages(session, edition_id, document)
    drop_waiting_jobs(session, document)
    document.state, document.progress = DocumentState.REMOVED, None
    document.error = document.error_code = document.revision_id = None
    document.version += 1


def rename_document(session: Session, document: Document, name: str) -> None:
    """Give a document another name; it stays the same document. One that is titled by its name is read again."""
    titled_by_name = document.title == PurePosixPath(document.name).stem
    old = document.name
    document.name = name
    document.version += 1
    for member in session.scalars(select(Document).where(Document.parent_key == document.key)).all():
        member.name = name + member.name.removeprefix(old)
    if titled_by_name and document.state != DocumentState.REMOVED:
        document.title = PurePosixPath(name).stem
        retry_document(session, document)


def retry_document(session: Session, document: Document) -> Job:
    """Read a document's latest revision once more."""
    document.state, document.progress, document.error, document.error_code = DocumentState.WAITING, None, None, None
    return add_job(session, document, document.latest_revision_id)


def set_tags(session: Session, document: Document, tags: Mapping[str, str]) -> None:
    document.tags = dict(tags)
    document.version += 1
    session.execute(delete(DocumentTag).where(DocumentTag.document_key == document.key))
    session.add_all(
        DocumentTag(document_key=document.key, tag=tag, value=value, kb_id=document.kb_id, team_id=document.team_id)
        for tag, value in tags.items()
    )


def add_tags(session: Session, document: Document, tags: Mapping[str, str]) -> None:
    """Give a document more tags, those of the same name replaced; past the most it can have, the last are left out."""
    merged = {**document.tags, **tags}
    if merged != document.tags:
        set_tags(session, document, dict(list(merged.items())[:MOST_TAGS]))


def take_in(session: Session, document: Document, inside: Sequence[Inside]) -> str | None:
    """Make the files inside a document documents of their own, named below it; those that are gone from it go.

    A file inside a file inside a file is taken, down to a depth, and up to a number and a size in all: archives in archives can
    unpack to far more than anyone of them. Returns a warning when files were left out.
    """
    kb = session.get_one(Kb, document.kb_id)
    kept: set[str] = set()
    left, room = _room_inside(session, document) if inside else (0, 0)
    left_out = 0
    for item in inside if _depth(session, document) < _MOST_DEPTH else ():
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
        added = add_document(session, kb, name, item.sha256, item.size, dict(list(tags.items())[:MOST_TAGS]))
        added.document.parent_key = document.key
        added.document.source_id = document.source_id
    for member in session.scalars(select(Document).where(Document.parent_key == document.key)).all():
        if member.name not in kept:
            delete_document(session, kb, member)
    if not left_out:
        return None
    return (
        f"{left_out:,} files inside were left out: of one file {_MOST_INSIDE:,} are taken and "
        f"{_MOST_INSIDE_BYTES // 1_000_000:,} MB, those in archives inside it included"
    )


def _room_inside(session: Session, document: Document) -> tuple[int, int]:
    """How many more files, and bytes, the outermost file around a document may have; the document's own do not count."""
    root = document
    while root.parent_key is not None and (parent := session.get(Document, root.parent_key)) is not None:
        root = parent
    there = [
        Document.kb_id == root.kb_id, Document.name > f"{root.name}/", Document.name < f"{root.name}0",
        Document.parent_key.is_not(None), Document.parent_key != document.key,
    ]  # fmt: skip
    sizes = select(func.count(), func.coalesce(func.sum(Revision.size), 0)).select_from(Document)
    count, size = (
        session.execute(sizes.join(Revision, Revision.id == Document.latest_revision_id).where(*there)).tuples().one()
    )
    return _MOST_INSIDE - count, _MOST_INSIDE_BYTES - size


def _depth(session: Session, document: Document) -> int:
    depth = 0
    while document.parent_key is not None and depth < _MOST_DEPTH:
        parent = session.get(Document, document.parent_key)
        if parent is None:
            break
        document, depth = parent, depth + 1
    return depth


def delete_document(session: Session, kb: Kb, document: Document) -> None:
    """Remove a document with its revisions and what was found inside it; their passages leave the index in the same
    transaction."""
    for member in session.scalars(select(Document).where(Document.parent_key == document.key)).all():
        delete_document(session, kb, member)
    for edition_id in session.scalars(select(Edition.id).where(Edition.kb_id == kb.id)).all():
        retire_passages(session, edition_id, document)
    session.delete(document)


def reindex_all(session: Session, edition_id: str) -> int:
    """Queue every document of an edition for indexing from scratch, since its files are lost or damaged."""
    edition = session.get(Edition, edition_id)
    if edition is None:
        return 0
    for table in (PassageRow, Segment, Tombstone):
        session.execute(delete(table).where(table.edition_id == edition_id))
    documents = session.scalars(
        select(Document).where(Document.kb_id == edition.kb_id, Document.state.not_in(NOT_INDEXED))
    ).all()
    serves = session.scalar(select(Kb.id).where(Kb.edition_id == edition_id)) is not None
    for document in documents:
        if serves:
            retry_document(session, document)
        else:
            add_job_beside(session, document, document.latest_revision_id, edition_id)
    return len(documents)


def reading_text(session: Session, blobs: BlobStore, team_id: str, revision_id: str) -> str | None:
    """The text of a revision of the team; None when it is gone, or was never read."""
    revision = session.get(Revision, revision_id)
    if revision is None or revision.team_id != team_id or revision.reading is None:
        return None
    text: str = json.loads(blobs.read(revision.reading))["text"]
    return text
