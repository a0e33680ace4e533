"""Pictures in a PDF: where they are on a page, and what they look like."""

from __future__ import annotations

import ctypes
from collections import Counter
from collections.abc import Collection, Iterator
from contextlib import suppress
from typing import Any

import pypdfium2 as pdfium
import pypdfium2.raw as raw

from fontanel.core.reading.model import ReadingFailed
from fontanel.core.reading.paged import pdfium_calls as calls
from fontanel.core.reading.paged.figures import PlacedPicture
from fontanel.core.reading.paged.pdf_drawings import (
    drawings_of_page,
    may_have_drawings,
    take_drawings,
)
from fontanel.core.reading.paged.pdf_geometry import PageFrame
from fontanel.core.reading.picture_files import shown
from fontanel.core.reading.pictures import raw_hash, sized_picture

#: The maximum number of objects of a page among which pictures are looked for.
_MAX_OBJECTS = 20_000
#: A picture that covers more of a page with text is a background or a scan.
_WHOLE_PAGE = 0.85
_MAX_BYTES = 100_000_000


def pictures_of_page(page: Any, *, has_text: bool) -> list[PlacedPicture]:
    """Return the pictures of a page that are more than ornaments."""
    frame = PageFrame(page)
    kinds = _kinds(page)
    results: list[PlacedPicture] = []
    for image in _images(page, kinds):
        with suppress(pdfium.PdfiumError, ValueError):
            left, bottom, right, top = frame.shown(*image.get_bounds())
            covered = (right - left) * (top - bottom)
            if has_text and covered > _WHOLE_PAGE * frame.width * frame.height:
                continue
            columns, rows = _size(image)
            known = sized_picture("", columns, rows)
            if known is not None and (data := _data(image)):
                picture = sized_picture(raw_hash(data, columns, rows), columns, rows)
                assert picture is not None
                results.append(PlacedPicture(picture, left, bottom, right, top))
    if may_have_drawings(kinds):
        results += drawings_of_page(page, results)
    return results


def take_pictures(data: bytes, wanted: Collection[str]) -> dict[str, bytes]:
    """Return pictures of a PDF as JPEG, by their hashes; without those that cannot be drawn.

    Raises:
        ReadingFailed: damaged.
    """
    taken: dict[str, bytes] = {}
    try:
        with pdfium.PdfDocument(data) as document:
            for index in range(len(document)):
                if len(taken) == len(set(wanted)):
                    break
                with suppress(pdfium.PdfiumError):
                    page = document[index]
                    _take(page, wanted, taken)
                    page.close()
    except pdfium.PdfiumError as error:
        raise ReadingFailed("damaged", "The PDF is damaged and cannot be opened.") from error
    return taken


def _take(page: Any, wanted: Collection[str], taken: dict[str, bytes]) -> None:
    kinds = _kinds(page)
    for image in _images(page, kinds):
        with suppress(pdfium.PdfiumError, ValueError, ReadingFailed):
            columns, rows = _size(image)
            if sized_picture("", columns, rows) is None:
                continue
            sha256 = raw_hash(_data(image), columns, rows)
            if sha256 in wanted and sha256 not in taken:
                taken[sha256] = shown(image.get_bitmap(render=False).to_pil())
    if may_have_drawings(kinds) and len(taken) < len(set(wanted)):
        with suppress(pdfium.PdfiumError, ValueError, ReadingFailed):
            take_drawings(page, wanted, taken)


def _kinds(page: Any) -> Counter[int]:
    """Count a page's objects by their kinds."""
    handle = calls.handle_of(page.raw)
    count = min(raw.FPDFPage_CountObjects(page.raw), _MAX_OBJECTS)
    return Counter(calls.get_object_type(calls.get_object(handle, index)) for index in range(count))


def _images(page: Any, kinds: Counter[int]) -> Iterator[Any]:
    """Yield a page's pictures, also those inside its forms."""
    if raw.FPDF_PAGEOBJ_IMAGE in kinds or raw.FPDF_PAGEOBJ_FORM in kinds:
        yield from page.get_objects(filter=(raw.FPDF_PAGEOBJ_IMAGE,), max_depth=3)


def _size(image: Any) -> tuple[int, int]:
    width, height = ctypes.c_uint(), ctypes.c_uint()
    if not raw.FPDFImageObj_GetImagePixelSize(image.raw, width, height):
        return 0, 0
    return width.value, height.value


def _data(image: Any) -> bytes:
    """Return a picture's data as it is stored; empty if there is too much."""
    size = raw.FPDFImageObj_GetImageDataRaw(image.raw, None, 0)
    if not 0 < size <= _MAX_BYTES:
        return b""
    buffer = (ctypes.c_ubyte * size)()
    raw.FPDFImageObj_GetImageDataRaw(image.raw, buffer, size)
    return bytes(buffer)
