"""What people filled in: the fields of a PDF's form, which are no part of a page's text, put beside their labels."""

from __future__ import annotations

import ctypes
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import pypdfium2 as pdfium
import pypdfium2.raw as pdfium_c

from fontanel.core.reading.lines import Cell, Line
from fontanel.core.reading.model import collapse

_HIDDEN = pdfium_c.FPDF_ANNOT_FLAG_HIDDEN | pdfium_c.FPDF_ANNOT_FLAG_NOVIEW
_PASSWORD = 1 << 13
_TEXTS = frozenset(
    {pdfium_c.FPDF_FORMFIELD_TEXTFIELD, pdfium_c.FPDF_FORMFIELD_COMBOBOX, pdfium_c.FPDF_FORMFIELD_LISTBOX}
)
_BOXES = frozenset({pdfium_c.FPDF_FORMFIELD_CHECKBOX, pdfium_c.FPDF_FORMFIELD_RADIOBUTTON})
_MOST_FIELDS = 5_000


@dataclass(frozen=True, slots=True)
class Filled:
    """What a field holds, and its box in points from the page's bottom left."""

    text: str
    left: float
    bottom: float
    right: float
    top: float


def open_forms(document: pdfium.PdfDocument) -> None:
    """Make a document's form known, before any page is looked at; nothing for a document without one."""
    if pdfium_c.FPDF_GetFormType(document) == pdfium_c.FORMTYPE_ACRO_FORM:
        document.init_forms()


def filled_fields(document: pdfium.PdfDocument, page: Any) -> list[Filled]:
    """The fields of a page that hold something, and boxes with whether they are ticked. Empty without a form, and on pages that are turned."""
    if document.formenv is None or page.get_rotation():
        return []
    return list(_fields(document.formenv, page))


def add_fields(lines: list[Line], fields: list[Filled], page: int) -> None:
    """Put what was filled in behind the label on its left, or else on a line of its own below what stands above it.

    A ticked box is told before the label on its right, as people read it.
    """
    for one in fields:
        middle = (one.bottom + one.top) / 2
        beside = [line for line in lines if abs(line.baseline + 0.3 * line.size - middle) < 0.7 * line.size]
        before = [(cell.left, line, cell) for line in beside for cell in line.cells if cell.left < one.left]
        after = [(-cell.left, line, cell) for line in beside for cell in line.cells if cell.left >= one.right - 1]
        if before:
            _, line, cell = max(before, key=lambda item: item[0])
            cell.text = f"{cell.text} {one.text}"
        elif after:
            _, line, cell = max(after, key=lambda item: item[0])
            cell.text = f"{one.text} {cell.text}"
        else:
            size = min(one.top - one.bottom, 11.0)
            line = Line(page, [Cell(one.left, one.right, one.text)], one.bottom, one.bottom, one.top, size)
            above = [n for n, other in enumerate(lines) if other.baseline > middle]
            lines.insert(above[-1] + 1 if above else 0, line)
        line.settle()


def _fields(form: Any, page: Any) -> Iterator[Filled]:
    for index in range(min(pdfium_c.FPDFPage_GetAnnotCount(page), _MOST_FIELDS)):
        field = pdfium_c.FPDFPage_GetAnnot(page, index)
        if not field:
            continue
        try:
            if pdfium_c.FPDFAnnot_GetSubtype(field) != pdfium_c.FPDF_ANNOT_WIDGET:
                continue
            text = "" if pdfium_c.FPDFAnnot_GetFlags(field) & _HIDDEN else _held(form, field)
            box = pdfium_c.FS_RECTF()
            if text and pdfium_c.FPDFAnnot_GetRect(field, box):
                yield Filled(text, box.left, box.bottom, box.right, box.top)
        finally:
            pdfium_c.FPDFPage_CloseAnnot(field)


def _held(form: Any, field: Any) -> str:
    kind = pdfium_c.FPDFAnnot_GetFormFieldType(form, field)
    if kind in _BOXES:
        return "[x]" if pdfium_c.FPDFAnnot_IsChecked(form, field) else "[ ]"
    if kind not in _TEXTS or pdfium_c.FPDFAnnot_GetFormFieldFlags(form, field) & _PASSWORD:
        return ""
    size = pdfium_c.FPDFAnnot_GetFormFieldValue(form, field, None, 0)
    room = ctypes.create_string_buffer(max(size, 2))
    pdfium_c.FPDFAnnot_GetFormFieldValue(form, field, ctypes.cast(room, ctypes.POINTER(pdfium_c.FPDF_WCHAR)), size)
    return collapse(room.raw[:size].decode("utf-16-le", errors="replace").rstrip("\0"))
