"""ODT (OASIS OpenDocument): headings, paragraphs, lists, tables, code and notes."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from lxml import etree

from fontanel.core.reading.markup.xml import attribute, local_name, parse_xml
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed, collapse
from fontanel.core.reading.other.archive import open_archive, read_entry
from fontanel.core.reading.word.flow import Flow, is_code_style

#: What is stored with a text but is not part of it, or repeats other text.
_SKIPPED = {
    "table-of-content",
    "illustration-index",
    "table-index",
    "tracked-changes",
    "sequence-decls",
    "forms",
    "annotation",
    "annotation-end",
    "variable-decls",
}
_MAX_DEPTH = 100


def read_odt(data: bytes) -> ReadingBuilder:
    """Raises ReadingFailed: damaged, encrypted or too_large."""
    archive = open_archive(data)
    names = set(archive.namelist())
    if "META-INF/manifest.xml" in names and b"encryption-data" in read_entry(
        archive, "META-INF/manifest.xml"
    ):
        raise ReadingFailed(
            "encrypted", "The document is encrypted. Add a copy that opens without a password."
        )
    root = parse_xml(read_entry(archive, "content.xml"))
    builder = ReadingBuilder()
    if "meta.xml" in names:
        for element in parse_xml(read_entry(archive, "meta.xml")).iter():
            if local_name(element) == "title":
                builder.title = collapse(_text(element))
    styles = _Styles()
    if "styles.xml" in names:
        styles.learn(parse_xml(read_entry(archive, "styles.xml")))
    styles.learn(root)
    body = next(
        (element for element in root.iter() if local_name(element) == "text" and len(element)), None
    )
    if body is not None:
        flow = Flow(builder)
        _Walk(flow, styles, lambda name: read_entry(archive, name) if name in names else b"").add(
            body, 0
        )
        flow.end()
    return builder


class _Styles:
    """Styles of a document: their parents, and which list levels are numbered."""

    def __init__(self) -> None:
        self._parents: dict[str, str] = {}
        self._numbered: dict[str, set[int]] = {}

    def learn(self, root: etree._Element) -> None:
        for element in root.iter():
            name = local_name(element)
            if name == "style":
                self._parents[attribute(element, "name") or ""] = (
                    attribute(element, "parent-style-name") or ""
                )
            elif name == "list-style":
                levels = [
                    attribute(one, "level") or "1"
                    for one in element
                    if local_name(one) == "list-level-style-number"
                ]
                self._numbered[attribute(element, "name") or ""] = {
                    int(level) for level in levels if level.isdigit()
                }

    def names(self, style: str) -> list[str]:
        """A style's name and those that it rests on."""
        results: list[str] = []
        while style and style not in results:
            results.append(style)
            style = self._parents.get(style, "")
        return results

    def is_numbered(self, style: str, level: int) -> bool:
        return level in self._numbered.get(style, ())


class _Walk:
    def __init__(self, flow: Flow, styles: _Styles, file: Callable[[str], bytes]) -> None:
        self._flow = flow
        self._file = file
        self._styles = styles
        #: The counters of the last list of each style, for lists that continue them.
        self._last: dict[str, int] = {}

    def add(self, parent: etree._Element, depth: int) -> None:
        if depth > _MAX_DEPTH:
            return
        for element in parent:
            name = local_name(element)
            if name == "h":
                level = attribute(element, "outline-level") or "1"
                self._flow.heading(
                    _text(element), int(level) if level.isdigit() else 1, _notes(element)
                )
                self._pictures(element)
            elif name == "p":
                self._paragraph(element)
            elif name == "list":
                self._flow.end()
                self._list(element, attribute(element, "style-name") or "", 0)
            elif name == "table":
                self._flow.table(*_table(element), _notes(element))
                self._pictures(element)
            elif name not in _SKIPPED:
                self.add(element, depth + 1)

    def _paragraph(self, element: etree._Element) -> None:
        names = self._styles.names(attribute(element, "style-name") or "")
        text, notes = _text(element), _notes(element)
        if any(map(is_code_style, names)):
            self._flow.code(_lines(element), notes)
        elif "Title" in names and text:
            self._flow.builder.title = self._flow.builder.title or text
            self._flow.heading(text, 1, notes)
        elif text:
            self._flow.paragraph(text, notes)
        self._pictures(element)

    def _pictures(self, element: etree._Element) -> None:
        for frame in element.iter():
            if local_name(frame) == "frame" and any(
                local_name(child) == "image" for child in frame
            ):
                texts = [
                    collapse(child.text or "")
                    for child in frame
                    if local_name(child) in ("desc", "title")
                ]
                self._flow.figure(max(texts, key=len, default=""), self._data(frame))

    def _data(self, frame: etree._Element) -> bytes:
        """Return the bytes of a frame's picture; empty where it is linked, or missing."""
        image = next(child for child in frame if local_name(child) == "image")
        return self._file(attribute(image, "href") or "")

    def _list(self, element: etree._Element, style: str, depth: int) -> None:
        numbered = self._styles.is_numbered(style, depth + 1)
        count = (
            self._last.get(style, 0)
            if depth == 0 and attribute(element, "continue-numbering") == "true"
            else 0
        )
        for item in element:
            name = local_name(item)
            if name not in ("list-item", "list-header"):
                continue
            started = attribute(item, "start-value") or ""
            count = int(started) if started.isdigit() else count + (name == "list-item")
            first = True
            for child in item:
                if local_name(child) in ("p", "h"):
                    mark = (
                        ""
                        if not first
                        else f"{count}."
                        if numbered and name == "list-item"
                        else "-"
                    )
                    self._flow.item(mark or " ", _text(child), depth, _notes(child))
                    first = False
                elif local_name(child) == "list" and depth < _MAX_DEPTH:
                    self._list(child, attribute(child, "style-name") or style, depth + 1)
        if depth == 0:
            self._last[style] = count


def _table(element: etree._Element) -> tuple[list[list[str]], int]:
    """Return a table's rows, and how many of them are header rows."""
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
                text = " ".join(
                    _text(part) for part in cell if local_name(part) in ("p", "h", "list")
                )
                cells += [text] * min(int(again) if again.isdigit() else 1, 200)
        while cells and not cells[-1]:
            cells.pop()
        rows.append(cells)
    return rows, header


def _notes(element: etree._Element) -> list[str]:
    """The texts of the notes that are called in an element."""
    results = [
        " ".join(_text(child) for child in body)
        for body in element.iter()
        if local_name(body) == "note-body"
    ]
    return [note for note in results if note]


def _lines(element: etree._Element) -> str:
    """A paragraph of code, with its blanks and line breaks."""
    return _shown(element, {"tab": "\t", "line-break": "\n"}).rstrip()


def _text(element: etree._Element) -> str:
    return collapse(_shown(element, {"tab": " ", "line-break": " "}))


def _shown(element: etree._Element, marks: Mapping[str, str]) -> str:
    """Return an element's visible text, without notes; `marks` are special characters."""
    parts: list[str] = []

    def visit(node: etree._Element, depth: int) -> None:
        name = local_name(node)
        if depth > _MAX_DEPTH or name in _SKIPPED or name == "note":
            return
        if name == "s":
            times = attribute(node, "c") or "1"
            parts.append(" " * min(int(times) if times.isdigit() else 1, 200))
        parts.append(marks.get(name, ""))
        parts.append(node.text or "")
        for child in node:
            # In a frame, a picture's metadata is not text.
            if name != "frame" or local_name(child) == "text-box":
                visit(child, depth + 1)
            parts.append(child.tail or "")

    visit(element, 0)
    return "".join(parts)
