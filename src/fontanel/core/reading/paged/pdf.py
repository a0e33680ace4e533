"""PDF (ISO 32000) through PDFium.

Lines with positions and styles, and the outline.

Lines become blocks in `layout`. Pages without a usable text layer are recognised as pictures.
"""

from __future__ import annotations

import ctypes
import itertools
import re
from collections.abc import Callable
from typing import Any

import pypdfium2 as pdfium
import pypdfium2.raw as raw

from fontanel.core.reading.model import ReadingBuilder, ReadingFailed, collapse
from fontanel.core.reading.paged import pdfium_calls as calls
from fontanel.core.reading.paged.headings import Outline
from fontanel.core.reading.paged.layout import add_pages
from fontanel.core.reading.paged.lines import (
    RAISED,
    WRAP_ENDS,
    WRAPPED,
    Cell,
    Line,
    PageLines,
    drop_running,
    in_columns,
    joined,
)
from fontanel.core.reading.paged.pdf_forms import (
    add_fields,
    filled_fields,
    may_hold_notes,
    open_forms,
    take_off_notes,
)
from fontanel.core.reading.paged.pdf_geometry import Gap, PageGeometry
from fontanel.core.reading.paged.pdf_pictures import pictures_of_page
from fontanel.core.reading.paged.recognition import Recogniser, recognise

_MAX_PAGES = 20_000
#: The maximum number of pages to recognise in a document: each takes seconds.
_MAX_RECOGNISED = 500
#: Dots an inch at which a page is drawn for recognition.
_DPI = 200
#: The maximum number of objects of a page to search for rules.
_MAX_OBJECTS = 20_000
#: Characters below which a page with a picture on it counts as a scan.
_LITTLE_TEXT = 16
#: PDFium's character for glyphs whose font does not map them.
_UNKNOWN = re.compile("[\x00-\x01\x03-\x08\x0b\x0c\x0e-\x1f\ue000-\uf8ff\ufffd]")
#: What PDFium puts where it joined a word that a hyphen broke over two lines.
_BROKEN = ("\x02", "\ufffe")
_BULLETS = str.maketrans(
    {"\uf0b7": "•", "\uf0a7": "▪", "\uf0d8": "▪", "\uf02d": "-", "\uf0fc": "•", "\uf076": "•"}
)
_PRIVATE = re.compile("[\uf000-\uf0ff]")
_SPACES = re.compile(r"[ \t\xa0]+")
#: Figures after a word or its punctuation, which may be the mark of a footnote.
_MARK = re.compile(r"\d(?<=[^\W\d_]\d|[.,;:)\]”’\"]\d)\d?(?![\w.])")
#: A line of a page's text, without blanks at its ends.
_LINE = re.compile("[^\\s\x02\ufffe](?:[^\r\n\x02\ufffe]*[^\\s\x02\ufffe])?")
_RAISE = str.maketrans("0123456789", RAISED)
_RAISED = re.compile(rf"(?<=[^\s{RAISED}])[{RAISED}]+")


def read_pdf(
    data: bytes, progress: Callable[[int, int], None], *, recognition: bool = True
) -> ReadingBuilder:
    """Read a PDF; without `recognition`, pages that are pictures are left out.

    Raises ReadingFailed: encrypted, damaged, no_text or too_large.
    """
    try:
        document = pdfium.PdfDocument(data)
        open_forms(document)
        count = len(document)
    except pdfium.PdfiumError as error:
        if "password" in str(error).lower():
            raise ReadingFailed(
                "encrypted", "The file is encrypted. Add a copy that opens without a password."
            ) from error
        raise ReadingFailed(
            "damaged", "The PDF is damaged and cannot be opened. Add it again from a good copy."
        ) from error
    try:
        return _read_document(
            document, count, progress, recognition=recognition, notes=may_hold_notes(data)
        )
    finally:
        document.close()


def _read_document(
    document: pdfium.PdfDocument,
    count: int,
    progress: Callable[[int, int], None],
    *,
    recognition: bool,
    notes: bool,
) -> ReadingBuilder:
    if count > _MAX_PAGES:
        raise ReadingFailed(
            "too_large",
            f"The PDF has {count:,} pages; at most {_MAX_PAGES:,} are read. Add it in parts.",
        )
    builder = ReadingBuilder(
        pages=count, unit_names=_labels(document, count), title=_document_title(document)
    )
    pages: list[PageLines] = []
    #: Pages with something drawn on them, but no text; and all pages without text.
    pictures: list[int] = []
    textless = 0
    scans = _Scans(builder, _MAX_RECOGNISED if recognition else 0)
    for index in range(count):
        try:
            page = _read_page(document, index, scans, notes=notes)
        except pdfium.PdfiumError:
            builder.warnings.append(f"Page {index + 1} is damaged and was left out")
            page = PageLines(index + 1, 612.0, 792.0)
        else:
            if not page.lines and not page.pictures:
                if not _is_blank(document, index):
                    pictures.append(index + 1)
                textless += 1
        pages.append(page)
        progress(index + 1, count)
    scans.warn()
    if count and textless == count and not any(page.pictures for page in pages):
        raise ReadingFailed(
            "no_text", "No text was found on any of the pages, nor in their pictures."
        )
    if pictures:
        shown = ", ".join(map(str, pictures[:20])) + (" ..." if len(pictures) > 20 else "")
        builder.warnings.append(
            f"No text on page {shown}" if len(pictures) == 1 else f"No text on pages {shown}"
        )
    drop_running(pages)
    add_pages(builder, pages, _outline(document, count))
    return builder


def _is_blank(document: pdfium.PdfDocument, index: int) -> bool:
    """Return whether nothing is drawn on a page, as on the back of a title page."""
    return next(iter(document[index].get_objects(max_depth=1)), None) is None


class _Scans:
    """Recognises pages that are pictures, within bounds, and remembers how that went."""

    def __init__(self, builder: ReadingBuilder, most: int) -> None:
        self._builder = builder
        self._most = most
        self._recogniser: Recogniser | None = None
        self._done = 0
        self._left: list[int] = []

    def lines(self, page: Any, index: int) -> list[Line]:
        if self._done >= self._most:
            self._left.append(index + 1)
            return []
        self._done += 1
        self._recogniser = self._recogniser or Recogniser()
        width, height = page.get_size()
        # A page as large as a poster is drawn smaller.
        scale = min(_DPI / 72, 4000 / max(width, height, 1.0))
        picture = page.render(scale=scale, grayscale=False, may_draw_forms=False).to_numpy()
        return recognise(self._recogniser, picture, index + 1, width, height)

    def warn(self) -> None:
        if self._left:
            self._builder.warnings.append(
                f"{len(self._left)} scanned pages were not recognised: at most {self._most} are, a"
                " document"
            )


def _document_title(document: pdfium.PdfDocument) -> str:
    title = collapse(document.get_metadata_value("Title") or "")
    # Programs store a file name or a placeholder where no title was set.
    return "" if re.search(r"\.\w{2,4}$|^untitled|^microsoft word", title, re.I) else title


def _labels(document: pdfium.PdfDocument, count: int) -> list[str]:
    """The pages' labels ("iv", "A-3"), where they are not just their numbers."""
    labels = [
        document.get_page_label(index) or str(index + 1) for index in range(min(count, _MAX_PAGES))
    ]
    return labels if any(label != str(index + 1) for index, label in enumerate(labels)) else []


def _outline(document: pdfium.PdfDocument, count: int) -> Outline:
    results: Outline = {}
    try:
        for entry in document.get_toc(max_depth=8):
            target = entry.get_dest()
            page = target.get_index() if target is not None else None
            title = collapse(entry.get_title() or "")
            if title and page is not None and 0 <= page < count:
                results.setdefault(page + 1, []).append((title, entry.level + 1))
    except (pdfium.PdfiumError, RecursionError, ValueError):
        return results
    return results


def _read_page(
    document: pdfium.PdfDocument, index: int, scans: _Scans, *, notes: bool
) -> PageLines:
    page = document[index]
    try:
        width, height = page.get_size()
        text_page = page.get_textpage()
        try:
            result = PageLines(index + 1, width, height)
            text = _characters(text_page.raw)
            if _PRIVATE.search(text):
                text = text.translate(_BULLETS)
            text, unknown = _UNKNOWN.subn(" ", text)
            existing = len(text.strip())
            fields = filled_fields(document, page, notes=notes)
            if unknown > 0.3 * (existing + unknown) or (
                existing < _LITTLE_TEXT and _is_picture(page, width * height)
            ):
                take_off_notes(page)
                result.lines = scans.lines(page, index)
                if result.lines:
                    add_fields(result.lines, fields, index + 1)
                    return result
            text = _raised_marks(text_page.raw, text)
            result.lines = joined(_lines(text_page.raw, text, index + 1, page))
            add_fields(result.lines, fields, index + 1)
        finally:
            text_page.close()
        in_columns(result)
        result.pictures = pictures_of_page(page, has_text=bool(result.lines))
        if sum(1 for line in result.lines if len(line.cells) > 1) >= 2:
            result.rules = _rules(page)
        return result
    finally:
        page.close()


def _is_picture(page: Any, area: float) -> bool:
    """Whether pictures cover a fair part of the page."""
    covered = 0.0
    for item in page.get_objects(filter=(raw.FPDF_PAGEOBJ_IMAGE,), max_depth=2):
        left, bottom, right, top = item.get_bounds()
        covered += (right - left) * (top - bottom)
    return covered > 0.25 * area


def _characters(text_page: Any) -> str:
    """Return a page's characters, one per PDFium character, so that indices agree."""
    count = raw.FPDFText_CountChars(text_page)
    if count <= 0:
        return ""
    buffer = (ctypes.c_ushort * (count + 1))()
    written = raw.FPDFText_GetText(text_page, 0, count, buffer) - 1
    text = bytes(buffer)[: 2 * written].decode("utf-16-le", "replace")
    if len(text) == count:
        return text
    # Characters beyond the basic plane, or left out: one by one.
    codes = (raw.FPDFText_GetUnicode(text_page, i) for i in range(count))
    return "".join(
        chr(code) if code < 0x110000 and not 0xD800 <= code < 0xE000 else " " for code in codes
    )


def _lines(text_page: Any, text: str, page: int, page_object: Any) -> list[Line]:
    geometry = PageGeometry(text_page, page_object)
    lines: list[Line] = []
    seen: dict[str, list[Line]] = {}
    for match in _LINE.finditer(text):
        start, end = match.span()
        broken = text[end : end + 1] in _BROKEN
        line = _line(geometry, text, start, end, page, broken=broken)
        if line is None:
            continue
        if not lines and _is_sideways(line):
            geometry.turn(
                round(-raw.FPDFText_GetCharAngle(text_page, start) * 57.29578 / 90) * 90 % 360
            )
            line = _line(geometry, text, start, end, page, broken=broken) or line
        # A text layer over the same text duplicates everything.
        same = seen.get(line.text)
        if same is None:
            seen[line.text] = [line]
        elif any(
            abs(other.left - line.left) < 2 and abs(other.baseline - line.baseline) < 2
            for other in same
        ):
            continue
        else:
            same.append(line)
        lines.append(line)
    return lines


def _is_sideways(line: Line) -> bool:
    return len(line.text) > 4 and line.top - line.bottom > 2 * (line.right - line.left)


def _line(
    geometry: PageGeometry, text: str, start: int, end: int, page: int, *, broken: bool
) -> Line | None:
    middle = (start + end) // 2
    # Before any matrix: where that scales a unit font, the box shows the size.
    size = geometry.size(middle)
    result = geometry.runs(start, end - start, size * 1.1 if size > 1.5 else 4.4)
    if result is None:
        return None
    (left, bottom, right, top), gaps = result
    if size <= 1.5:
        size = max(4.0, (top - bottom) * 1.1)
        gaps = [gap for gap in gaps if gap[1] - gap[0] > size * 1.1]
    # A single bold or monospaced word is not enough: the first, middle and last letter must be. The
    # mark of a wrapped line may have any font.
    bold, fixed = geometry.font(start)
    if bold or fixed:
        mark = WRAPPED.search(text, middle, end) if text[end - 1] in WRAP_ENDS else None
        last = mark.start() - 1 if mark else end - 1
        for index in (last, *(() if text[middle] == " " else (middle,))):
            also_bold, also_fixed = geometry.font(index)
            bold, fixed = bold and also_bold, fixed and also_fixed
        bold = bold and end - start < 120
    if gaps:
        cells = _cells(geometry, text, start, end, gaps, left, right, size)
    else:
        cells = [Cell(left, right, _clean(text[start:end]))]
    return Line(
        page, cells, geometry.baseline(start), bottom, top, round(size * 2) / 2, bold, fixed, broken
    )


def _cells(
    geometry: PageGeometry,
    text: str,
    start: int,
    end: int,
    gaps: list[Gap],
    left: float,
    right: float,
    size: float,
) -> list[Cell]:
    """Split a line at wide gaps between its runs, at the corresponding blanks."""
    cells: list[Cell] = []
    run, run_left = start, left
    for match in _SPACES.finditer(text, start, end):
        after = geometry.box(match.end())[0]
        for gap in gaps:
            if abs(gap[1] - after) < 0.5 * size:
                cells.append(Cell(run_left, gap[0], _clean(text[run : match.start()])))
                run, run_left = match.end(), gap[1]
                gaps.remove(gap)
                break
        if not gaps:
            break
    cells.append(Cell(run_left, right, _clean(text[run:end])))
    return [cell for cell in cells if cell.text] or [Cell(left, right, _clean(text[start:end]))]


def _clean(text: str) -> str:
    # Of blanks only the plain one counts as printable.
    if "  " in text or not text.isprintable():
        text = " ".join(text.split())
    return text if text.isascii() else _RAISED.sub(r" \g<0>", text)


def _raised_marks(text_page: Any, text: str) -> str:
    """Mark the small figures after a word as superscript: they refer to a footnote."""
    marks: list[tuple[int, int]] = []
    handle = calls.handle_of(text_page)
    for match in _MARK.finditer(text):
        start, end = match.span()
        # Exponents follow shorter things than words.
        if text[start - 1].isalpha() and not (start > 2 and text[start - 3 : start].isalpha()):
            continue
        if calls.get_font_size(handle, start) < 0.85 * calls.get_font_size(handle, start - 1):
            marks.append((start, end))
    for start, end in marks:
        text = text[:start] + text[start:end].translate(_RAISE) + text[end:]
    return text


def _rules(page: Any) -> list[tuple[float, float, float, float]]:
    """The thin lines and the frames drawn on a page."""
    rules: list[tuple[float, float, float, float]] = []
    numbers = (ctypes.c_float * 4)()
    sides = calls.places_in(numbers)
    count = min(raw.FPDFPage_CountObjects(page.raw), _MAX_OBJECTS)
    items = list(map(calls.get_object, itertools.repeat(calls.handle_of(page.raw)), range(count)))
    for item, kind in zip(items, map(calls.get_object_type, items), strict=True):
        if kind == raw.FPDF_PAGEOBJ_PATH and calls.get_object_bounds(item, *sides):
            left, bottom, right, top = numbers
            if right - left > 3 or top - bottom > 3:
                rules.append((left, bottom, right, top))
    return rules
