"""What people filled in and wrote onto pages: a PDF's form fields and free text, which are no part of a page's text, put beside their labels."""

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
    """What a field holds, or a line that was written onto the page, and its box in points from the page's bottom left."""

    text: str
    left: float
    bottom: float
    right: float
    top: float


def open_forms(document: pdfium.PdfDocument) -> None:
    """Make a document's form known, before any page is looked at; nothing for a document without one."""
    if pdfium_c.FPDF_GetFormType(document) == pdfium_c.FORMTYPE_ACRO_FORM:
        document.init_forms()


def may_hold_notes(data: bytes) -> bool:
    """Whether a PDF may hold free text, told from its bytes and its object streams (ISO 32000-1, 7.5.7). Asking PDFium for each note of
    each page takes a tenth of the time that reading a manual full of links does."""
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


def filled_fields(document: pdfium.PdfDocument, page: Any, notes: bool) -> list[Filled]:
    """The fields of a page that hold something, boxes with whether they are ticked, and text written onto the page, line by line.
    Empty on pages that are turned, and without `notes` in a document that has no form."""
    if (document.formenv is None and not notes) or page.get_rotation():
        return []
    return list(_fields(document.formenv, page))


def take_off_notes(page: Any) -> None:
    """Take free text off a page that is to be recognised, as it is known better than recognition tells, and the signs of remarks, which recognition takes for letters. The file stays as it is."""
    for index in reversed(range(min(pdfium_c.FPDFPage_GetAnnotCount(page), _MAX_FIELDS))):
        note = pdfium_c.FPDFPage_GetAnnot(page, index)
        if not note:
            continue
        kind = pdfium_c.FPDFAnnot_GetSubtype(note)
        pdfium_c.FPDFPage_CloseAnnot(note)
        if kind in (pdfium_c.FPDF_ANNOT_FREETEXT, pdfium_c.FPDF_ANNOT_TEXT):
            pdfium_c.FPDFPage_RemoveAnnot(page, index)


def add_fields(lines: list[Line], fields: list[Filled], page: int) -> None:
    """Put what was filled in behind the label on its left, or else on a line of its own below what stands above it.

    A ticked box is told before the label on its right, as people read it.
    """
    for one in fields:
        middle = (one.bottom + one.top) / 2
        beside = [
            line
            for line in lines
            if abs(line.baseline + 0.3 * line.size - middle) < 0.7 * line.size
        ]
        before = [
            (cell.left, line, cell)
            for line in beside
            for cell in line.cells
            if cell.left < one.left
        ]
        after = [
            (-cell.left, line, cell)
            for line in beside
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
    """What a call of PDFium's tells: first how many bytes it takes, then the bytes (UTF-16, with a zero at the end)."""
    size = call(None, 0)
    room = ctypes.create_string_buffer(max(size, 2))
    call(ctypes.cast(room, ctypes.POINTER(pdfium_c.FPDF_WCHAR)), size)
    return room.raw[:size].decode("utf-16-le", errors="replace").rstrip("\0")
