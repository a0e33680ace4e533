"""Pages of a document: pictures of them, and the positions of their text."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Path, Query, Response

from fontanel.core.reading import DRAWN, Place
from fontanel.core.reading.detect import PDF
from fontanel.engine.documents.readings import reading_of
from fontanel.engine.workers.framing import Failed
from fontanel.engine.workers.messages import DrawPage, FindLinks, LinksFound
from fontanel.engine.workers.processes import WorkerDied
from fontanel.records.tables import Revision
from fontanel.schemas import LinkOut, PageOut, PlaceOut
from fontanel.service.auth.access import Access, Reader
from fontanel.service.lookup import original_of, revision_of
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/kbs/{kb}/documents/{document}/pages", "documents")

PageNumber = Annotated[int, Path(ge=1, le=100_000)]
_DRAW_SECONDS = 60.0


@router.get("/{page}", summary="Show a page's text with its positions")
def show_page(
    kb: str, document: str, page: PageNumber, access: Reader, revision: str | None = None
) -> PageOut:
    """The characters of the text on the page, and their boxes in fixed layouts."""
    _, version = revision_of(access, kb, document, revision)
    reading = reading_of(access.runtime.blobs, version)
    blocks = [block for block in reading.blocks if block.page == page] if reading else []
    if reading is None or (not blocks and page > (version.pages or 0)):
        raise ApiError("not-found", f"The document has no page {page}.")
    names = reading.unit_names
    places = [PlaceOut(**_box(place)) for place in reading.places if place.page == page]
    starts = [block.start for block in blocks] + [place.start for place in places]
    ends = [block.end for block in blocks] + [place.end for place in places]
    return PageOut(
        number=page,
        label=names[page - 1] if page <= len(names) else None,
        start=min(starts, default=0),
        end=max(ends, default=0),
        places=places,
        shape=reading.shape,
        links=_links(access, version, page),
    )


def _links(access: Access, version: Revision, page: int) -> list[LinkOut]:
    """Return the links of a PDF page, none if they cannot be read."""
    if version.media_type != PDF:
        return []
    if version.original_deleted_at is not None:
        return []
    path = original_of(access, version)
    access.release()
    try:
        reply = access.runtime.preview_worker.read(
            FindLinks(path=str(path), page=page), _DRAW_SECONDS
        )
    except WorkerDied:
        return []
    if not isinstance(reply, LinksFound):
        return []
    return [LinkOut(**link._asdict()) for link in reply.links]


def _box(place: Place) -> dict[str, Any]:
    box = place._asdict()
    del box["page"]
    return box


@router.get(
    "/{page}/picture",
    summary="Show a page as a picture",
    response_class=Response,
    responses={200: {"content": {"image/png": {}}}},
)
def draw(
    kb: str,
    document: str,
    page: PageNumber,
    access: Reader,
    revision: str | None = None,
    width: Annotated[int, Query(ge=80, le=2400, description="Pixels across.")] = 900,
) -> Response:
    """A PNG of a page of a PDF or a picture.

    It can be cached, as revisions never change.
    """
    _, version = revision_of(access, kb, document, revision)
    if version.media_type not in DRAWN:
        raise ApiError(
            "not-found", "This document has no pages to draw.", advice="Open the original instead."
        )
    path = original_of(access, version)
    access.release()
    drawn: list[bytes] = []
    request = DrawPage(path=str(path), media_type=version.media_type, page=page, width=width)
    try:
        reply = access.runtime.preview_worker.read(request, _DRAW_SECONDS, on_attached=drawn.append)
    except WorkerDied as error:
        raise ApiError(
            "unreadable", f"Page {page} could not be drawn.", advice="Open the original."
        ) from error
    if isinstance(reply, Failed):
        kind = "not-found" if reply.code == "no_text" else "unreadable"
        raise ApiError(kind, reply.error, advice="Open the original.")
    headers = {
        "Cache-Control": "private, max-age=86400, immutable",
        "ETag": f'"{version.sha256[:16]}-{page}-{width}"',
    }
    return Response(drawn[0], media_type="image/png", headers=headers)
