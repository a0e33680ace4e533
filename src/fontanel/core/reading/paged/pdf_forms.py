"""Form fields and free text of PDF pages, placed at their labels."""

from __future__ import annotations

import ctypes
import re
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import pypdfium2 as pdfium
import pypdfium2.raw as pdfium_c

from fontanel.core.reading.model import collapse
from fontanel.core.reading.paged.lines import Cell, Line

_HIDDEN = pdfium_c.FPDF_ANNOT_FLAG_HIDDEN | pdfium_c.FPDF_ANNOT_FLAG_NOVIEW
_PASSWORD = 1 << 13
_TEXTS = frozenset(
    {
        pdfium_c.FPDF_FORMFIELD_TEXTFIELD,
        pdfium_c.FPDF_FORMFIELD_COMBOBOX,
        pdfium_c.FPDF_FORMFIELD_LISTBOX,
    }
)
_BOXES = frozenset({pdfium_c.FPDF_FORMFIELD_CHECKBOX, pdfium_c.FPDF_FORMFIELD_RADIOBUTTON})
_KINDS = frozenset({pdfium_c.FPDF_ANNOT_WIDGET, pdfium_c.FPDF_ANNOT_FREETEXT})
_MAX_FIELDS = 5_000
_OBJECT_STREAM = re.compile(rb"/Type\s*/ObjStm\b(?:(?!stream).){0,500}?stream\r?\n", re.DOTALL)
_MAX_UNPACKED = 64 * 1024 * 1024
_PIECE = 64 * 1024


@dataclass(frozen=True, slots=True)
class Filled:
    """A field's value, or a line written on the page, with its box in points."""

    text: str
    left: float
    bottom: float
    right: float
    top: float


def open_forms(document: pdfium.PdfDocument) -> None:
    """Load a document's form, if any, before its pages are read."""
    if pdfium_c.FPDF_GetFormType(document) == pdfium_c.FORMTYPE_ACRO_FORM:
        document.init_forms()


def may_hold_notes(data: bytes) -> bool:
    """Return whether a PDF may contain free text, by its bytes and object streams.

    ISO 32000-1, 7.5.7. Asking PDFium for each annotation of each page takes a tenth of the time of
    reading a manual full of links.
    """
    if b"/FreeText" in data or b"/Encrypt" in data:
        return True
    room = _MAX_UNPACKED
    try:
        for result in _OBJECT_STREAM.finditer(data):
            unpacker, objects, at = zlib.decompressobj(), b"", result.end()
            while not unpacker.eof and at < len(data) and len(objects) < room:
                objects += unpacker.decompress(data[at : at + _PIECE])
                at += _PIECE
            room -= len(objects)
            if room <= 0 or b"/FreeText" in objects:
                return True
    except zlib.error:
        return True
    return False


def filled_fields(document: pdfium.PdfDocument, page: Any, *, notes: bool) -> list[Filled]:
    """Return the filled fields, ticked boxes and added text of a page.

    Empty for rotated pages, and without `notes` in a document without a form.
    """
    if (document.formenv is None and not notes) or page.get_rotation():
        return []
    return list(_fields(document.formenv, page))


def take_off_notes(page: Any) -> None:
    """Hide free text and note icons before recognition; the file is not changed.

    The text is known exactly already, and recognition takes icons for letters.
    """
    for index in reversed(range(min(pdfium_c.FPDFPage_GetAnnotCount(page), _MAX_FIELDS))):
        note = pdfium_c.FPDFPage_GetAnnot(page, index)
        if not note:
            continue
        kind = pdfium_c.FPDFAnnot_GetSubtype(note)
        pdfium_c.FPDFPage_CloseAnnot(note)
        if kind in (pdfium_c.FPDF_ANNOT_FREETEXT, pdfium_c.FPDF_ANNOT_TEXT):
            pdfium_c.FPDFPage_RemoveAnnot(page, index)


def add_fields(lines: list[Line], fields: list[Filled], page: int) -> None:
    """Add filled fields after their labels, or as lines of their own.

    A ticked box precedes the label on its right, in reading order.
    """
    for one in fields:
        middle = (one.bottom + one.top) / 2
        same_row = [
            line
            for line in lines
            if abs(line.baseline + 0.3 * line.size - middle) < 0.7 * line.size
        ]
        before = [
            (cell.left, line, cell)
            for line in same_row
            for cell in line.cells
            if cell.left < one.left
        ]
        after = [
            (-cell.left, line, cell)
            for line in same_row
            for cell in line.cells
            if cell.left >= one.right - 1
        ]
        if before:
            _, line, cell = max(before, key=lambda item: item[0])
            cell.text = f"{cell.text} {one.text}"
        elif after:
            _, line, cell = max(after, key=lambda item: item[0])
            cell.text = f"{one.text} {cell.text}"
        else:
            size = min(one.top - one.bottom, 11.0)
            line = Line(
                page, [Cell(one.left, one.right, one.text)], one.bottom, one.bottom, one.top, size
            )
            above = [n for n, other in enumerate(lines) if other.baseline > middle]
            lines.insert(above[-1] + 1 if above else 0, line)
        line.settle()


def _fields(form: Any, page: Any) -> Iterator[Filled]:
    for index in range(min(pdfium_c.FPDFPage_GetAnnotCount(page), _MAX_FIELDS)):
        field = pdfium_c.FPDFPage_GetAnnot(page, index)
        if not field:
            continue
        try:
            kind = pdfium_c.FPDFAnnot_GetSubtype(field)
            if kind not in _KINDS or pdfium_c.FPDFAnnot_GetFlags(field) & _HIDDEN:
                continue
            box = pdfium_c.FS_RECTF()
            if not pdfium_c.FPDFAnnot_GetRect(field, box):
                continue
            if kind == pdfium_c.FPDF_ANNOT_FREETEXT:
                written = [collapse(line) for line in _written(field).splitlines()]
            else:
                written = [] if form is None else [_held(form, field)]
            height = (box.top - box.bottom) / max(len(written), 1)
            for number, text in enumerate(written):
                if text:
                    top = box.top - number * height
                    yield Filled(text, box.left, top - height, box.right, top)
        finally:
            pdfium_c.FPDFPage_CloseAnnot(field)


def _held(form: Any, field: Any) -> str:
    kind = pdfium_c.FPDFAnnot_GetFormFieldType(form, field)
    if kind in _BOXES:
        return "[x]" if pdfium_c.FPDFAnnot_IsChecked(form, field) else "[ ]"
    if kind not in _TEXTS or pdfium_c.FPDFAnnot_GetFormFieldFlags(form, field) & _PASSWORD:
        return ""
    return collapse(
        _string(lambda room, size: pdfium_c.FPDFAnnot_GetFormFieldValue(form, field, room, size))
    )


def _written(note: Any) -> str:
    return _string(
        lambda room, size: pdfium_c.FPDFAnnot_GetStringValue(note, b"Contents", room, size)
    )


def _string(call: Callable[[Any, int], int]) -> str:
    """Return a string from PDFium.

    First its size, then the bytes (UTF-16, terminated).
    """
    size = call(None, 0)
    room = ctypes.create_string_buffer(max(size, 2))
    call(ctypes.cast(room, ctypes.POINTER(pdfium_c.FPDF_WCHAR)), size)
    return room.raw[:size].decode("utf-16-le", errors="replace").rstrip("\0")
