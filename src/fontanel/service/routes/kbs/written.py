"""Documents written here, the history of revisions, and bulk changes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any

from fastapi import Query, Request, Response
from sqlalchemy import case, func, select

from fontanel.core.reading.model import CELL_SEPARATOR
from fontanel.engine.documents.documents import (
    add_document,
    delete_document,
    retry_document,
    revise_document,
)
from fontanel.engine.documents.editable import why_not_editable, written_name
from fontanel.engine.documents.naming import check_tags, set_tags
from fontanel.engine.documents.readings import reading_of
from fontanel.errors import NotFound, Refused
from fontanel.facts import MAX_TAGS
from fontanel.records.tables import Document, DocumentState, Revision
from fontanel.schemas import (
    AddedOut,
    BulkIn,
    BulkOut,
    DifferencesOut,
    FolderOut,
    RevisionOut,
    WrittenChange,
    WrittenIn,
    WrittenOut,
)
from fontanel.service.auth.access import Access, Editor, EditorWrite, Reader, check_version
from fontanel.service.lookup import original_of, revision_of, selected_documents
from fontanel.service.out.documents import added_out
from fontanel.service.out.text_changes import changes_out
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/kbs/{kb}", "documents")

# Written here


@router.post("/written", status_code=202, summary="Write a document")
def write(kb: str, body: WrittenIn, access: Editor) -> AddedOut:
    """Markdown, plain text, or a small table as CSV: a document like any other."""
    name = written_name(body.name)
    tags = check_tags(body.tags)
    kb_id = access.scope.kb(kb).id
    access.release()
    sha256, size = access.runtime.blobs.put([body.text.encode()])
    with access.writing() as writing:
        kb_row = writing.scope.kb(kb_id)
        taken = select(Document).where(Document.kb_id == kb_id, Document.name == name)
        holder = writing.session.scalar(taken)
        if holder is not None and holder.state != DocumentState.REMOVED:
            raise Refused(
                "name",
                f"There is a document named {name!r} already. Edit it, or choose another name.",
            )
        added = add_document(writing.session, kb_row, name, sha256, size, tags)
        writing.session.flush()
        return added_out(writing.session, added)


@router.get("/documents/{document}/written", summary="Show a document's own text, to edit it")
def show_written(
    kb: str, document: str, access: Reader, response: Response, revision: str | None = None
) -> WrittenOut:
    result, version = _newest(access, kb, document, revision)
    response.headers["ETag"] = f'"{result.version}"'
    reason = why_not_editable(result, version)
    text = "" if reason else original_of(access, version).read_text("utf-8", "replace")
    return WrittenOut(name=result.name, text=text, editable=reason is None, reason=reason)


def _newest(
    access: Access, kb: str, document: str, revision: str | None
) -> tuple[Document, Revision]:
    """Return a document with a revision: by default the newest, even if it is not indexed yet.

    Whoever edits an older text would undo the last change.
    """
    if revision is None:
        row = access.scope.document(access.scope.kb(kb), document)
        revision = row.latest_revision_id
    return revision_of(access, kb, document, revision)


@router.put(
    "/documents/{document}/written", status_code=202, summary="Change a document's own text"
)
def rewrite(
    kb: str, document: str, body: WrittenChange, access: EditorWrite, request: Request
) -> AddedOut:
    """Adds a revision; needs If-Match, so that nobody overwrites another's change."""
    result, version = _newest(access, kb, document, None)
    check_version(request, result.version, required=True)
    if (reason := why_not_editable(result, version)) is not None:
        raise ApiError("conflict", reason)
    sha256, size = access.runtime.blobs.put([body.text.encode()])
    return _revised(access, result, sha256, size, version.columns)


@router.post(
    "/documents/{document}/revisions/{revision}/restore",
    status_code=202,
    summary="Bring a revision back",
)
def restore(kb: str, document: str, revision: str, access: EditorWrite) -> AddedOut:
    """Its content becomes the newest revision; those between stay in the history."""
    result, version = revision_of(access, kb, document, revision)
    if result.source_id is not None:
        raise ApiError(
            "conflict", "A source keeps this document; it would be put back at the next run."
        )
    return _revised(access, result, version.sha256, version.size, version.columns)


def _revised(
    access: Access, document: Document, sha256: str, size: int, columns: dict[str, Any] | None
) -> AddedOut:
    added = revise_document(access.session, document, sha256, size, columns)
    access.session.flush()
    return added_out(access.session, added)


# Differences


@router.get("/documents/{document}/differences", summary="Compare two revisions of a document")
def compare_revisions(
    kb: str,
    document: str,
    access: Reader,
    before: Annotated[
        str | None, Query(description="A revision; default: the one before `after`.")
    ] = None,
    after: Annotated[
        str | None, Query(description="A revision; default: the newest that was read.")
    ] = None,
) -> DifferencesOut:
    """Compares paragraphs, rows and items, and the words of those that changed."""
    document_row = access.scope.document(access.scope.kb(kb), document)
    of_document = access.scope.select(Revision).where(Revision.document_key == document_row.key)
    revisions = access.session.scalars(of_document.order_by(Revision.number)).all()
    read = [revision for revision in revisions if revision.reading is not None]
    if not read:
        raise ApiError(
            "not-found", "The document has not been read yet.", advice="Wait until it is indexed."
        )
    new = read[-1] if after is None else _pick(revisions, after)
    old = read[max(read.index(new) - 1, 0)] if before is None else _pick(revisions, before)
    return DifferencesOut(
        before=RevisionOut.model_validate(old),
        after=RevisionOut.model_validate(new),
        changes=changes_out(_pieces(access, old), _pieces(access, new)),
    )


def _pick(revisions: Sequence[Revision], ref: str) -> Revision:
    for revision in revisions:
        if ref not in (revision.id, str(revision.number)):
            continue
        if revision.reading is None:
            raise ApiError(
                "not-found",
                f"Revision {revision.number} has not been read.",
                advice=(
                    "It failed, waits its turn, or the next came first: compare another revision."
                ),
            )
        return revision
    raise NotFound("revision", ref)


def _pieces(access: Access, revision: Revision) -> list[str]:
    """Paragraphs whole; lists, tables and code by lines."""
    reading = reading_of(access.runtime.blobs, revision)
    assert reading is not None
    pieces: list[str] = []
    for block in reading.blocks:
        text = reading.text[block.start : block.end].replace(CELL_SEPARATOR, " | ")
        pieces += [text] if block.kind in ("paragraph", "heading") else text.split("\n")
    return pieces


# Many at once


@router.get("/folders", summary="List the folders of documents")
def list_folders(kb: str, access: Reader, under: str = "") -> list[FolderOut]:
    """Those right below a folder; names of documents are paths."""
    kb_row = access.scope.kb(kb)
    prefix = under.strip("/") + "/" if under.strip("/") else ""
    rest = func.substr(Document.name, len(prefix) + 1)
    slash = func.instr(rest, "/")
    name = func.substr(rest, 1, slash - 1)
    warned = case((func.json_array_length(Revision.warnings) > 0, 1), else_=0)
    failed = case((Document.state == DocumentState.FAILED, 1), else_=0)
    query = (
        select(name, func.count(), func.sum(failed), func.sum(warned))
        .select_from(Document)
        .join(Revision, Revision.id == Document.latest_revision_id)
        .where(
            Document.team_id == access.team.id,
            Document.kb_id == kb_row.id,
            Document.state != DocumentState.REMOVED,
            slash > 0,
            *([func.substr(Document.name, 1, len(prefix)) == prefix] if prefix else []),
        )
        .group_by(name)
        .order_by(name)
    )
    return [
        FolderOut(
            name=folder, path=prefix + folder, documents=count, failed=failures, warned=warnings
        )
        for folder, count, failures, warnings in access.session.execute(query)
    ]


@router.post("/documents/bulk", summary="Change many documents")
def bulk(kb: str, body: BulkIn, access: EditorWrite) -> BulkOut:
    """All in one transaction: either all documents are changed or none."""
    kb_row = access.scope.kb(kb)
    documents = access.session.scalars(selected_documents(access, kb_row, body.chosen)).all()
    set_these = check_tags(body.set_tags)
    done = 0
    for document in documents:
        if body.action == "retry" and document.state != DocumentState.FAILED:
            continue
        if body.action == "reread" and document.state == DocumentState.REMOVED:
            continue  # it comes back by its source alone
        if body.action in ("retry", "reread"):
            retry_document(access.session, document)
        elif body.action == "delete":
            if document not in access.session:
                continue  # it went with the file that it was part of
            delete_document(access.session, kb_row, document)
            access.session.flush()
        else:
            tags = {
                key: value
                for key, value in {**document.tags, **set_these}.items()
                if key not in body.drop_tags
            }
            if len(tags) > MAX_TAGS:
                raise Refused("set_tags", f"{document.name} would have more than {MAX_TAGS} tags.")
            set_tags(access.session, document, tags)
        done += 1
    return BulkOut(documents=done)
