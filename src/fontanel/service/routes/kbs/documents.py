"""Documents: added, listed, shown, tagged, retried and deleted."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Annotated, Any
from urllib.parse import quote

from fastapi import File, Form, Path, Query, Request, Response, UploadFile
from fastapi.responses import FileResponse

from fontanel.core.reading import DRAWN, MHTML, RECORDINGS
from fontanel.engine.documents.documents import add_document, delete_document, retry_document
from fontanel.engine.documents.naming import check_tags, document_name, set_tags
from fontanel.engine.documents.readings import reading_of
from fontanel.engine.documents.validity import mark_document, unmark_document
from fontanel.engine.pictures.found import find_blob
from fontanel.engine.runtime.fault_points import fault
from fontanel.errors import NotFound, Refused
from fontanel.records.tables import Document, DocumentState, Job, PassageRow, Revision
from fontanel.schemas import (
    AddedOut,
    Columns,
    DocumentChange,
    DocumentOut,
    DocumentSelection,
    DocumentTextOut,
    JobOut,
    LocatorOut,
    Page,
    PassageOut,
    RevisionOut,
    StateName,
    ValidityIn,
)
from fontanel.service.auth.access import Editor, EditorWrite, Reader, check_version
from fontanel.service.bodies import BodyRefused, check_json
from fontanel.service.forms import given
from fontanel.service.lookup import original_of, revision_of, selected_documents
from fontanel.service.out.documents import added_out, document_out, documents_out, job_out
from fontanel.service.out.readings import blocks_out
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/kbs/{kb}", "documents")

_CHUNK = 1024 * 1024
#: Types that a browser may display; everything else is downloaded.
_SHOWN = {
    "application/pdf",
    "text/plain",
    "text/markdown",
    "text/html",
    "text/csv",
    "application/json",
    "image/png",
    "image/jpeg",
    "image/webp",
    *RECORDINGS,
}
_SANDBOX = "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:"


@router.get("/documents", summary="List documents")
def list_documents(
    kb: str,
    access: Reader,
    state: Annotated[
        StateName | None, Query(description="Without one, all but those removed at their source.")
    ] = None,
    name: Annotated[str | None, Query(description="Part of the name or the title.")] = None,
    tag: Annotated[
        list[str] | None,
        Query(description="`key=value`; may be given more than once.", max_length=32),
    ] = None,
    *,
    warnings: Annotated[
        bool, Query(description="Only documents that were read with warnings.")
    ] = False,
    outdated: Annotated[bool, Query(description="Only documents that are not in force.")] = False,
    parent: Annotated[
        str | None, Query(description="Only those found inside this document.")
    ] = None,
    source: Annotated[
        str | None, Query(description="Only those of this source; `none`: only what people added.")
    ] = None,
    folder: Annotated[str | None, Query(description="Only those in or below this folder.")] = None,
    cursor: str | None = None,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
) -> Page[DocumentOut]:
    """In the order of their names."""
    kb_row = access.scope.kb(kb)
    pairs = [pair.partition("=") for pair in tag or []]
    chosen = DocumentSelection(
        state=state,
        source=source,
        folder=folder,
        name=name,
        warnings=warnings,
        outdated=outdated,
        tags={key: value for key, _, value in pairs},
        all=True,
    )
    query = selected_documents(access, kb_row, chosen)
    if parent:
        query = query.where(Document.parent_key == access.scope.document(kb_row, parent).key)
    if cursor is not None:
        query = query.where(Document.name > cursor)
    rows = access.session.scalars(query.order_by(Document.name).limit(limit + 1)).all()
    items = documents_out(access.session, rows[:limit])
    return Page(items=items, next=items[-1].name if len(rows) > limit else None)


@router.post("/documents", status_code=202, summary="Add a file")
def add(
    kb: str,
    access: Editor,
    file: Annotated[UploadFile, File(description="The file.")],
    name: Annotated[
        str | None, Form(description="The document's name; default: the file's.")
    ] = None,
    tags: Annotated[
        str | None,
        Form(description="Tags as a JSON object of strings.", examples=['{"year": "2024"}']),
    ] = None,
    columns: Annotated[
        str | None,
        Form(
            description="What a table's columns mean, as a JSON object; its rows become documents.",
            examples=['{"title": "Question", "text": ["Answer"], "tags": ["Area"]}'],
        ),
    ] = None,
) -> AddedOut:
    """A new name creates a document, a known one a revision.

    Identical bytes change nothing.

    Returns as soon as the bytes are safe; the job reports the progress of indexing.
    """
    kb_row = access.scope.kb(kb)
    kb_id = kb_row.id
    access.release()
    requested = document_name(name or file.filename or "")
    tagged = _tags(tags)
    meaning = given(Columns, "columns", columns)
    runtime = access.runtime

    def chunks() -> Iterator[bytes]:
        while data := file.file.read(_CHUNK):
            yield data

    sha256, size = runtime.blobs.put(chunks())
    fault("blob_stored")
    with access.writing() as writing:
        added = add_document(
            writing.session, writing.scope.kb(kb_id), requested, sha256, size, tagged, meaning
        )
        writing.session.flush()
        return added_out(writing.session, added)


def _tags(text: str | None) -> dict[str, str] | None:
    if text is None or not text.strip():
        return None
    try:
        check_json(text.encode("utf-8", "surrogatepass"))
        values: Any = json.loads(text)
    except (ValueError, RecursionError, BodyRefused) as error:
        raise Refused(
            "tags", 'Tags must be a JSON object, for instance {"year": "2024"}.'
        ) from error
    if not isinstance(values, dict) or not all(isinstance(value, str) for value in values.values()):
        raise Refused("tags", "Tags must be a JSON object of strings.")
    return check_tags(values)


@router.get("/documents/{document}", summary="Show a document")
def show(kb: str, document: str, access: Reader, response: Response) -> DocumentOut:
    document_row = access.scope.document(access.scope.kb(kb), document)
    response.headers["ETag"] = f'"{document_row.version}"'
    return document_out(access.session, document_row)


@router.patch("/documents/{document}", summary="Change a document's tags")
def change(
    kb: str,
    document: str,
    body: DocumentChange,
    access: EditorWrite,
    request: Request,
    response: Response,
) -> DocumentOut:
    """Replaces the document's tags."""
    document_row = access.scope.document(access.scope.kb(kb), document)
    check_version(request, document_row.version)
    set_tags(access.session, document_row, check_tags(body.tags))
    access.session.flush()
    response.headers["ETag"] = f'"{document_row.version}"'
    return document_out(access.session, document_row)


@router.put("/documents/{document}/validity", summary="Decide whether a document is in force")
def decide_validity(kb: str, document: str, body: ValidityIn, access: EditorWrite) -> DocumentOut:
    """Outweighs what the text says, until the decision is withdrawn."""
    kb_row = access.scope.kb(kb)
    document_row = access.scope.document(kb_row, document)
    replacement = access.scope.document(kb_row, body.replaced_by) if body.replaced_by else None
    mark_document(access.session, document_row, body.mark, replacement, access.caller.name)
    access.session.flush()
    return document_out(access.session, document_row)


@router.delete(
    "/documents/{document}/validity", summary="Withdraw the decision whether it is in force"
)
def withdraw_validity(kb: str, document: str, access: EditorWrite) -> DocumentOut:
    """What its text says applies again."""
    document_row = access.scope.document(access.scope.kb(kb), document)
    unmark_document(access.session, document_row)
    access.session.flush()
    return document_out(access.session, document_row)


@router.delete("/documents/{document}", status_code=204, summary="Delete a document")
def remove(kb: str, document: str, access: EditorWrite) -> None:
    """It leaves searches and answers at once."""
    kb_row = access.scope.kb(kb)
    delete_document(access.session, kb_row, access.scope.document(kb_row, document))


@router.post("/documents/{document}/retry", status_code=202, summary="Read a document again")
def retry(kb: str, document: str, access: EditorWrite) -> JobOut:
    """For a document that failed."""
    document_row = access.scope.document(access.scope.kb(kb), document)
    if document_row.state != DocumentState.FAILED:
        raise ApiError("conflict", "The document has not failed; there is nothing to retry.")
    job = retry_document(access.session, document_row)
    access.session.flush()
    return job_out(access.session, job)


@router.get("/documents/{document}/revisions", summary="List a document's revisions")
def list_revisions(kb: str, document: str, access: Reader) -> Page[RevisionOut]:
    """Newest first."""
    document_row = access.scope.document(access.scope.kb(kb), document)
    query = (
        access.scope.select(Revision)
        .where(Revision.document_key == document_row.key)
        .order_by(Revision.number.desc())
    )
    return Page(
        items=[RevisionOut.model_validate(revision) for revision in access.session.scalars(query)]
    )


@router.get("/documents/{document}/text", summary="Show a document's text by block")
def show_text(
    kb: str, document: str, access: Reader, revision: str | None = None
) -> DocumentTextOut:
    """The text whose characters citations and passages refer to."""
    result, version = revision_of(access, kb, document, revision)
    reading = reading_of(access.runtime.blobs, version)
    if reading is None:
        raise ApiError(
            "not-found",
            "The document has not been read yet.",
            advice=result.error or "Wait until it is indexed.",
        )
    return DocumentTextOut(
        document_id=result.id,
        revision=RevisionOut.model_validate(version),
        title=reading.title,
        text=reading.text,
        blocks=blocks_out(reading.blocks),
        unit=reading.unit,
        unit_names=list(reading.unit_names),
        drawn=version.media_type in DRAWN,
    )


@router.get("/documents/{document}/passages", summary="List a document's passages")
def list_passages(
    kb: str,
    document: str,
    access: Reader,
    cursor: int | None = None,
    limit: Annotated[int, Query(ge=1, le=500)] = 200,
) -> Page[PassageOut]:
    """The passages that searches find, in reading order."""
    document_row = access.scope.document(access.scope.kb(kb), document)
    active = access.scope.kb(kb).edition_id
    query = access.scope.select(PassageRow).where(
        PassageRow.document_key == document_row.key, PassageRow.edition_id == active
    )
    if cursor is not None:
        query = query.where(PassageRow.ordinal > cursor)
    rows = access.session.scalars(query.order_by(PassageRow.ordinal).limit(limit + 1)).all()
    items = [
        PassageOut(
            id=row.id,
            ordinal=row.ordinal,
            start=row.start,
            end=row.end,
            text=row.text,
            context=row.context,
            tokens=row.tokens,
            locator=LocatorOut(**row.locator),
        )
        for row in rows[:limit]
    ]
    return Page(items=items, next=str(items[-1].ordinal) if len(rows) > limit else None)


@router.get(
    "/documents/{document}/original",
    summary="Open or download the original",
    response_class=FileResponse,
)
def original(
    kb: str, document: str, access: Reader, revision: str | None = None, *, download: bool = False
) -> FileResponse:
    """The bytes as they were added. Pages are shown without scripts."""
    result, version = revision_of(access, kb, document, revision)
    path = original_of(access, version)
    shown = version.media_type in _SHOWN and not download
    media_type = version.media_type if version.media_type in _SHOWN else "application/octet-stream"
    if media_type in ("text/markdown", "text/csv"):
        media_type = "text/plain"
    filename = result.name.rsplit("/", 1)[-1]
    if version.media_type == MHTML and not filename.lower().endswith((".mhtml", ".mht")):
        # A page of a site, stored with its pictures.
        filename = filename.removesuffix(".html") + ".mhtml"
    filename = quote(filename)
    headers = {
        "Content-Disposition": f"{'inline' if shown else 'attachment'}; filename*=UTF-8''{filename}"
    }
    if media_type != "application/pdf":
        headers["Content-Security-Policy"] = _SANDBOX
    return FileResponse(path, media_type=media_type, headers=headers)


@router.get(
    "/documents/{document}/pictures/{picture}",
    summary="Show a picture of a document",
    response_class=FileResponse,
)
def picture(
    kb: str,
    document: str,
    picture: Annotated[str, Path(pattern="^[0-9a-f]{64}$")],
    access: Reader,
    revision: str | None = None,
) -> FileResponse:
    """A picture that a model has described, as a JPEG of moderate size."""
    _, version = revision_of(access, kb, document, revision)
    blob = find_blob(access.session, version, picture)
    if blob is None:
        raise ApiError(
            "not-found",
            "This picture is not kept.",
            advice="Pictures are kept while a model describes them; open the original instead.",
        )
    return FileResponse(access.runtime.blobs.path(blob), media_type="image/jpeg")


@router.get("/jobs/{job}", tags=["jobs"], summary="Follow a job")
def show_job(kb: str, job: str, access: Reader) -> JobOut:
    kb_row = access.scope.kb(kb)
    row = access.session.scalar(
        access.scope.select(Job).where(Job.kb_id == kb_row.id, Job.id == job)
    )
    if row is None:
        raise NotFound("job", job)
    return job_out(access.session, row)
