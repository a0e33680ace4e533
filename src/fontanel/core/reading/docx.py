"""DOCX (ISO/IEC 29500) through python-docx, after a look at what the archive would unpack to."""

from __future__ import annotations

import io
import re
from typing import Any

import docx
from docx.document import Document
from docx.table import Table
from docx.text.paragraph import Paragraph

from fontanel.core.reading.archive import open_archive
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed
from fontanel.core.reading.xml import attribute, local_name, parse_xml

_HEADING = re.compile(r"^(?:heading|überschrift|titre)\s*(\d)", re.I)


def read_docx(data: bytes) -> ReadingBuilder:
    """Raises ReadingFailed: damaged, encrypted or too_large."""
    open_archive(data)
    try:
        document: Document = docx.Document(io.BytesIO(data))
        builder = ReadingBuilder(title=(document.core_properties.title or "").strip())
        _add_body(builder, document)
    except Exception as error:  # python-docx raises whatever the broken part of the archive leads it to, soon or late
        raise ReadingFailed("damaged", "The Word document is damaged. Save it again and add it anew.") from error
    builder.figures = len(document.inline_shapes)
    return builder


def _add_body(builder: ReadingBuilder, document: Document) -> None:
    items: list[str] = []
    numbers: dict[int, int] = {}
    notes = _notes(document)
    pending: list[str] = []
    for part in document.iter_inner_content():
        if pending and not items:
            _add_notes(builder, pending)
        if isinstance(part, Paragraph) and (mark := _list_mark(part, document)) is not None:
            level, ordered = mark
            numbers = {depth: count for depth, count in numbers.items() if depth <= level}
            numbers[level] = numbers.get(level, 0) + 1
            items.append("  " * level + (f"{numbers[level]}. " if ordered else "- ") + part.text)
            pending += _notes_of(part._p, notes)
            continue
        if items:
            builder.list(items)
            items, numbers = [], {}
            _add_notes(builder, pending)
        if isinstance(part, Table):
            _add_table(builder, part)
            pending += _notes_of(part._tbl, notes)
        else:
            _add_paragraph(builder, part)
            pending += _notes_of(part._p, notes)
    builder.list(items)
    _add_notes(builder, pending)


def _notes(document: Document) -> dict[tuple[str, str], str]:
    """Footnotes and endnotes by their kind and number."""
    found: dict[tuple[str, str], str] = {}
    for relation in document.part.rels.values():
        kind = relation.reltype.rsplit("/", 1)[-1].removesuffix("s")
        if kind in ("footnote", "endnote") and not relation.is_external:
            for note in parse_xml(relation.target_part.blob):
                text = " ".join(str(part.text or "") for part in note.iter() if local_name(part) == "t")
                found[kind, attribute(note, "id") or ""] = text
    return found


def _notes_of(element: Any, notes: dict[tuple[str, str], str]) -> list[str]:
    """The notes that a paragraph or table refers to, in its order."""
    if not notes:
        return []
    references = element.xpath(".//w:footnoteReference | .//w:endnoteReference")
    keys = [(local_name(one).removesuffix("Reference"), attribute(one, "id") or "") for one in references]
    return [notes[key] for key in keys if notes.get(key, "").strip()]


def _add_notes(builder: ReadingBuilder, pending: list[str]) -> None:
    for text in pending:
        builder.footnote(text)
    pending.clear()


def _style_name(paragraph: Paragraph) -> str:
    style = paragraph.style
    return (style.name or "") if style is not None else ""


def _add_paragraph(builder: ReadingBuilder, paragraph: Paragraph) -> None:
    name = _style_name(paragraph)
    if match := _HEADING.match(name):
        builder.heading(paragraph.text, int(match.group(1)))
    elif name == "Title":
        builder.title = builder.title or paragraph.text.strip()
        builder.heading(paragraph.text, 1)
    else:
        builder.paragraph(paragraph.text)


def _list_mark(paragraph: Paragraph, document: Document) -> tuple[int, bool] | None:
    """The depth of a list item and whether it is numbered; None for what is no item."""
    name = _style_name(paragraph)
    depth_in_name = re.search(r"(\d)$", name)
    if name.startswith("List Bullet") or name.startswith("List Number"):
        return int(depth_in_name.group(1)) - 1 if depth_in_name else 0, name.startswith("List Number")
    properties = paragraph._p.pPr
    if properties is None or properties.numPr is None or properties.numPr.numId is None or _HEADING.match(name):
        return None
    if not properties.numPr.numId.val:
        return None
    level = properties.numPr.ilvl.val if properties.numPr.ilvl is not None else 0
    return min(level, 6), _numbered(document, properties.numPr.numId.val, level)


def _numbered(document: Document, number_id: int, level: int) -> bool:
    try:
        numbering = document.part.numbering_part.element
    except (KeyError, NotImplementedError):
        return False
    found = numbering.xpath(
        f'w:abstractNum[@w:abstractNumId=//w:num[@w:numId="{int(number_id)}"]/w:abstractNumId/@w:val]'
        f'/w:lvl[@w:ilvl="{int(level)}"]/w:numFmt/@w:val'
    )
    return bool(found) and found[0] not in ("bullet", "none")


def _add_table(builder: ReadingBuilder, table: Table) -> None:
    rows: list[list[str]] = []
    for row in table.rows:
        cells: list[str] = []
        previous = None
        for cell in row.cells:
            # A merged cell comes once for each column that it spans: it says its text in the first.
            cells.append(cell.text if cell._tc is not previous else "")
            previous = cell._tc
        rows.append(cells)
    builder.table(rows, 1 if len(rows) > 1 else 0)
