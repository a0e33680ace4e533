"""ODT (OASIS OpenDocument): headings, paragraphs, lists and tables of a text."""

from __future__ import annotations

from collections.abc import Iterator

from lxml import etree

from fontanel.core.reading.archive import open_archive, read_entry
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed, collapse
from fontanel.core.reading.xml import attribute, local_name, parse_xml

#: What is stored with a text and is not part of it.
_SKIPPED = {"tracked-changes", "sequence-decls", "forms", "annotation", "annotation-end", "variable-decls"}
_MOST_DEPTH = 100


def read_odt(data: bytes) -> ReadingBuilder:
    """Raises ReadingFailed: damaged, encrypted or too_large."""
    archive = open_archive(data)
    names = set(archive.namelist())
    if "META-INF/manifest.xml" in names and b"encryption-data" in read_entry(archive, "META-INF/manifest.xml"):
        raise ReadingFailed("encrypted", "The document is encrypted. Add a copy that opens without a password.")
    root = parse_xml(read_entry(archive, "content.xml"))
    builder = ReadingBuilder()
    if "meta.xml" in names:
        for element in parse_xml(read_entry(archive, "meta.xml")).iter():
            if local_name(element) == "title":
                builder.title = collapse(_text(element))
    body = next((element for element in root.iter() if local_name(element) == "text" and len(element)), None)
    if body is not None:
        _walk(builder, body, 0)
    return builder


def _walk(builder: ReadingBuilder, parent: etree._Element, depth: int) -> None:
    if depth > _MOST_DEPTH:
        return
    for element in parent:
        name = local_name(element)
        if name == "h":
            level = attribute(element, "outline-level") or "1"
            builder.heading(_text(element), int(level) if level.isdigit() else 1)
        elif name == "p":
            builder.paragraph(_text(element))
            for child in element.iter():
                if local_name(child) == "image":
                    builder.figure("")
        elif name == "list":
            builder.list(list(_items(element, 0)))
        elif name == "table":
            _table(builder, element)
        elif name not in _SKIPPED:
            _walk(builder, element, depth + 1)


def _items(element: etree._Element, depth: int) -> Iterator[str]:
    for item in element:
        if local_name(item) not in ("list-item", "list-header"):
            continue
        first = True
        for child in item:
            if local_name(child) in ("p", "h"):
                yield "  " * min(depth, 6) + ("- " if first else "  ") + _text(child)
                first = False
            elif local_name(child) == "list" and depth < _MOST_DEPTH:
                yield from _items(child, depth + 1)


def _table(builder: ReadingBuilder, element: etree._Element) -> None:
    rows: list[list[str]] = []
    header = 0
    for row in element.iter():
        if local_name(row) != "table-row":
            continue
        parent = row.getparent()
        if parent is not None and local_name(parent) == "table-header-rows":
            header += 1
        cells: list[str] = []
        for cell in row:
            if local_name(cell) in ("table-cell", "covered-table-cell"):
                again = attribute(cell, "number-columns-repeated") or "1"
                text = " ".join(_text(part) for part in cell if local_name(part) in ("p", "h", "list"))
                cells += [text] * min(int(again) if again.isdigit() else 1, 200)
        while cells and not cells[-1]:
            cells.pop()
        rows.append(cells)
    width = max((len(row) for row in rows), default=0)
    builder.table([row + [""] * (width - len(row)) for row in rows], header or (1 if len(rows) > 1 else 0))


def _text(element: etree._Element) -> str:
    parts: list[str] = []

    def visit(node: etree._Element, depth: int) -> None:
        name = local_name(node)
        if depth > _MOST_DEPTH or name in _SKIPPED:
            return
        if name == "s" or name in ("tab", "line-break"):
            parts.append(" ")
        elif name == "note":
            # A note is said where it is called, in brackets.
            body = next((child for child in node if local_name(child) == "note-body"), None)
            parts.append(f" ({' '.join(_text(child) for child in body)}) " if body is not None else "")
            return
        parts.append(node.text or "")
        for child in node:
            visit(child, depth + 1)
            parts.append(child.tail or "")

    visit(element, 0)
    return collapse("".join(parts))
