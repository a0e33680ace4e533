"""Drawings in a PDF that consist of lines and areas instead of a picture."""

from __future__ import annotations

import ctypes
import hashlib
import struct
from collections.abc import Collection, Mapping
from typing import Any, NamedTuple

import pypdfium2.raw as raw

from fontanel.core.reading.model import Picture
from fontanel.core.reading.paged import pdfium_calls as calls
from fontanel.core.reading.paged.drawings import (
    MIN_PATHS,
    Path,
    contains,
    find_drawings,
    is_filled,
    with_labels,
)
from fontanel.core.reading.paged.figures import Box, PlacedPicture
from fontanel.core.reading.paged.pdf_geometry import PageFrame
from fontanel.core.reading.picture_files import shown
from fontanel.core.reading.pictures import sized_picture

#: The maximum number of objects of a page to look at, and how deep in its forms.
_MAX_OBJECTS, _MAX_DEPTH = 20_000, 3
#: Lines of a path that are looked at.
_MAX_LINES = 40
#: Dots an inch at which drawings are drawn, and the maximum of pixels on a side.
_DPI, _MAX_PIXELS = 150, 2_000
#: A line that rises or falls by less of its length is straight.
_SLANTED = 0.02
#: A drawing of which pictures cover more is their frame.
_MAX_PICTURES = 0.5


class _Matrix(NamedTuple):
    """Where a form's objects are on the page."""

    a: float
    b: float
    c: float
    d: float
    e: float
    f: float

    def box(self, left: float, bottom: float, right: float, top: float) -> Box:
        across = [self.a * x + self.c * y + self.e for x in (left, right) for y in (bottom, top)]
        up = [self.b * x + self.d * y + self.f for x in (left, right) for y in (bottom, top)]
        return min(across), min(up), max(across), max(up)

    def within(self, outer: _Matrix) -> _Matrix:
        a, b, c, d, e, f = self
        return _Matrix(
            a * outer.a + b * outer.c,
            a * outer.b + b * outer.d,
            c * outer.a + d * outer.c,
            c * outer.b + d * outer.d,
            e * outer.a + f * outer.c + outer.e,
            e * outer.b + f * outer.d + outer.f,
        )


def may_have_drawings(kinds: Mapping[int, int]) -> bool:
    """Return whether a page has enough paths for a drawing, by its objects of each kind."""
    paths = kinds.get(raw.FPDF_PAGEOBJ_PATH, 0) + kinds.get(raw.FPDF_PAGEOBJ_SHADING, 0)
    return paths >= MIN_PATHS or raw.FPDF_PAGEOBJ_FORM in kinds


def drawings_of_page(page: Any, pictures: Collection[PlacedPicture] = ()) -> list[PlacedPicture]:
    """Return the drawings of a page, without those that are only the frame of its pictures."""
    frame = PageFrame(page)
    found = list(find_drawings(_paths(page, frame), frame.width, frame.height))
    if not found:
        return []
    text_page = page.get_textpage()
    try:
        rects = [text_page.get_rect(index) for index in range(text_page.count_rects())]
        texts = [(frame.shown(*rect), text_page.get_text_bounded(*rect)) for rect in rects]
    finally:
        text_page.close()
    parts = [*(place for place, _ in texts), *(one[1:] for one in pictures)]
    results: list[PlacedPicture] = []
    for inner, paths in found:
        if is_filled(inner, parts):
            continue
        box = with_labels(inner, texts, frame.width, frame.height)
        words = [words for place, words in texts if contains(box, place)]
        picture = _picture(box, paths, words)
        if picture is not None:
            results.append(PlacedPicture(picture, *box))
    return results


def take_drawings(page: Any, wanted: Collection[str], taken: dict[str, bytes]) -> None:
    """Draw those drawings of a page that are wanted, as JPEG by their hashes, into `taken`."""
    width, height = page.get_size()
    for picture, left, bottom, right, top in drawings_of_page(page):
        if picture.sha256 in wanted and picture.sha256 not in taken:
            crop = (left, bottom, width - right, height - top)
            scale = picture.width / (right - left)
            taken[picture.sha256] = shown(page.render(scale=scale, crop=crop).to_pil())


def _picture(box: Box, paths: list[Path], words: list[str]) -> Picture | None:
    """Return a drawing as a picture; None for an ornament.

    Its hash is that of its paths' boxes within it and of the words on it.
    """
    left, bottom, right, top = box
    digest = hashlib.sha256("\n".join(words).encode())
    for path in paths:
        sides = (path.left - left, path.bottom - bottom, path.right - left, path.top - bottom)
        digest.update(struct.pack(">6i", *(round(10 * side) for side in sides), *path[4:]))
    scale = min(_DPI / 72, _MAX_PIXELS / max(right - left, top - bottom))
    across, down = round((right - left) * scale), round((top - bottom) * scale)
    return sized_picture(digest.hexdigest(), across, down)


def _paths(page: Any, frame: PageFrame) -> list[Path]:
    """Return a page's paths, as displayed; those of forms too."""
    handle = calls.handle_of(page.raw)
    count = min(raw.FPDFPage_CountObjects(page.raw), _MAX_OBJECTS)
    items = [calls.get_object(handle, index) for index in range(count)]
    found: list[Path] = []
    _collect(items, _Matrix(1, 0, 0, 1, 0, 0), frame, found, _MAX_DEPTH)
    return found


def _collect(
    items: list[Any], matrix: _Matrix, frame: PageFrame, found: list[Path], depth: int
) -> None:
    numbers = (ctypes.c_float * 4)()
    sides = calls.places_in(numbers)
    for item in items:
        if len(found) >= _MAX_OBJECTS:
            return
        kind = calls.get_object_type(item)
        if kind in (raw.FPDF_PAGEOBJ_PATH, raw.FPDF_PAGEOBJ_SHADING):
            if calls.get_object_bounds(item, *sides):
                box = frame.shown(*matrix.box(*numbers))
                # The bounds of a shading without an end in one direction are those of the page.
                if kind == raw.FPDF_PAGEOBJ_PATH or box[3] - box[1] < 0.7 * frame.height:
                    found.append(Path(*box, *_lines(item)))
        elif kind == raw.FPDF_PAGEOBJ_FORM and depth:
            form, place = ctypes.cast(item, raw.FPDF_PAGEOBJECT), raw.FS_MATRIX()
            if raw.FPDFPageObj_GetMatrix(form, place):
                inner = _Matrix(place.a, place.b, place.c, place.d, place.e, place.f)
                count = min(raw.FPDFFormObj_CountObjects(form), _MAX_OBJECTS)
                parts = [
                    ctypes.cast(raw.FPDFFormObj_GetObject(form, index), ctypes.c_void_p).value
                    for index in range(count)
                ]
                _collect(parts, inner.within(matrix), frame, found, depth - 1)


def _lines(item: int) -> tuple[int, int]:
    """Return how many lines a path has, and how many of the first ones are slanted or curved."""
    path = ctypes.cast(item, raw.FPDF_PAGEOBJECT)
    count = max(0, raw.FPDFPath_CountSegments(path))
    x, y = ctypes.c_float(), ctypes.c_float()
    slanted = 0
    before = (0.0, 0.0)
    for index in range(min(count, _MAX_LINES)):
        segment = raw.FPDFPath_GetPathSegment(path, index)
        kind = raw.FPDFPathSegment_GetType(segment)
        raw.FPDFPathSegment_GetPoint(segment, x, y)
        across, up = abs(x.value - before[0]), abs(y.value - before[1])
        if kind == raw.FPDF_SEGMENT_BEZIERTO or (
            kind == raw.FPDF_SEGMENT_LINETO and min(across, up) > _SLANTED * max(across, up)
        ):
            slanted += 1
        before = x.value, y.value
    return count, slanted
