"""DOCX (ISO/IEC 29500) through python-docx, within limits of unpacking.

The text is taken from the elements themselves. Insertions that nobody has accepted yet, content
controls, text boxes and fields are visible text; deletions, hidden text and the alternate form of a
drawing are not.
"""

from __future__ import annotations

import io
import re
from collections.abc import Iterator
from typing import Any

import docx
from docx.document import Document
from docx.oxml.ns import qn

from fontanel.core.reading.markup.xml import attribute, local_name, parse_xml
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed, collapse
from fontanel.core.reading.other.archive import open_archive
from fontanel.core.reading.word.docx_styles import Mark, WordStyles
from fontanel.core.reading.word.flow import Flow, is_code_style, is_contents_style

_NOT_SHOWN = frozenset(
    {
        "del",
        "moveFrom",
        "delText",
        "instrText",
        "delInstrText",
        "Fallback",
        "txbxContent",
        "pPr",
        "rPr",
        "rt",
    }
)
#: Elements that represent characters.
_CHARACTERS = {"tab": "\t", "br": "\n", "cr": "\n", "noBreakHyphen": "-", "ptab": "\t"}
#: What wraps paragraphs, rows and cells without being one.
_WRAPPERS = frozenset(
    {
        "sdt",
        "sdtContent",
        "ins",
        "moveTo",
        "customXml",
        "smartTag",
        "AlternateContent",
        "Choice",
        "body",
    }
)
_FIXED_FONTS = re.compile(r"courier|consolas|mono|menlo|lucida console", re.IGNORECASE)
_MAX_SPANNED = 200
_MAX_DEPTH = 50


def read_docx(data: bytes) -> ReadingBuilder:
    """Raises ReadingFailed: damaged, encrypted or too_large."""
    open_archive(data)
    try:
        document: Document = docx.Document(io.BytesIO(data))
        builder = ReadingBuilder(title=(document.core_properties.title or "").strip())
        reader = _Reader(document, builder)
        reader.add(document.element.body, 0)
        reader.flow.end()
    except Exception as error:  # python-docx raises anything on damaged archives
        raise ReadingFailed(
            "damaged", "The Word document is damaged. Save it again, and add the new file."
        ) from error
    return builder


class _Reader:
    def __init__(self, document: Document, builder: ReadingBuilder) -> None:
        self._styles = WordStyles(document)
        self.flow = Flow(builder)
        self._notes = _notes(document)
        self._parts = document.part.related_parts
        #: By list number, 0 for those of a style alone: the counters of each level.
        self._numbers: dict[int, dict[int, int]] = {}

    def add(self, parent: Any, depth: int) -> None:
        """Add the paragraphs and tables below an element."""
        if depth > _MAX_DEPTH:
            return
        for element in _inner(parent, {"p", "tbl"}):
            if local_name(element) == "tbl":
                self._numbers.pop(0, None)
                self._table(element)
            else:
                self._paragraph(element)
            for box in _boxes(element):
                self.add(box, depth + 1)

    def _paragraph(self, element: Any) -> None:
        flow, text = self.flow, _text(element)
        properties = element.find(qn("w:pPr"))
        style = self._styles.of(properties)
        name = style.name
        if is_contents_style(name):
            return
        notes = self._notes_of(element)
        mark = self._styles.mark(properties, style) if text.strip() else None
        if mark is not None:
            flow.item(self._mark(mark), text, mark.level, notes)
        else:
            # A list with a number continues after an interruption.
            self._numbers.pop(0, None)
            if not text.strip():
                if is_code_style(name):
                    flow.code("")
                else:
                    flow.end()
            elif rank := self._styles.rank(properties, style):
                flow.heading(text, rank, notes)
            elif name == "Title":
                flow.builder.title = flow.builder.title or collapse(text)
                flow.heading(text, 1, notes)
            elif is_code_style(name) or _in_fixed_font(element):
                flow.code(text, notes)
            else:
                flow.paragraph(text, notes)
        for description, data in self._pictures(element):
            flow.figure(description, data)

    def _pictures(self, element: Any) -> Iterator[tuple[str, bytes]]:
        """Yield the description and the bytes of each picture of a paragraph, perhaps empty."""
        for about, relation in _picture_ids(element):
            part = self._parts.get(relation)
            yield about, bytes(getattr(part, "blob", b""))

    def _mark(self, mark: Mark) -> str:
        if not mark.ordered:
            return "-"
        counts = self._numbers.setdefault(mark.number, {})
        for deeper in [level for level in counts if level > mark.level]:
            del counts[deeper]
        counts[mark.level] = counts.get(mark.level, 0) + 1
        return f"{counts[mark.level]}."

    def _table(self, element: Any) -> None:
        rows: list[list[str]] = []
        header = 0
        for row in _inner(element, {"tr"}):
            properties = row.find(qn("w:trPr"))
            text = {local_name(one) for one in properties} if properties is not None else set()
            if "del" in text:
                continue
            if "tblHeader" in text and header == len(rows):
                header += 1
            rows.append(_cells(row, rows[-1] if rows else []))
        self.flow.table(rows, header, self._notes_of(element))
        for description, data in self._pictures(element):
            self.flow.figure(description, data)

    def _notes_of(self, element: Any) -> list[str]:
        """The notes that a paragraph or table refers to, in its order."""
        if not self._notes:
            return []
        references = element.xpath(".//w:footnoteReference | .//w:endnoteReference")
        keys = [
            (local_name(one).removesuffix("Reference"), attribute(one, "id") or "")
            for one in references
        ]
        return [self._notes[key] for key in keys if self._notes.get(key, "").strip()]


def _inner(parent: Any, names: set[str]) -> Iterator[Any]:
    """Yield the elements of some names below another, through wrappers, in order."""
    todo = list(reversed(parent))
    while todo:
        element = todo.pop()
        name = local_name(element)
        if name in names:
            yield element
        elif name in _WRAPPERS:
            todo += reversed(element)


def _text(element: Any) -> str:
    """What a person sees of a paragraph."""
    parts: list[str] = []
    todo = list(reversed(element))
    while todo:
        node = todo.pop()
        name = local_name(node)
        if name in _NOT_SHOWN or (name == "r" and _is_hidden(node)):
            continue
        if name == "t":
            parts.append(node.text or "")
        elif name == "sym":
            parts.append(" ")
        else:
            parts.append(_CHARACTERS.get(name, ""))
            todo += reversed(node)
    return "".join(parts)


def _is_hidden(run: Any) -> bool:
    properties = run.find(qn("w:rPr"))
    hidden = properties.find(qn("w:vanish")) if properties is not None else None
    return hidden is not None and (hidden.get(qn("w:val")) or "1") not in ("0", "false", "off")


def _boxes(element: Any) -> list[Any]:
    """Yield the contents of a paragraph's text boxes, without duplicates."""
    result = element.iter(qn("w:txbxContent"))
    own = [
        box
        for box in result
        if not any(local_name(around) == "Fallback" for around in box.iterancestors())
    ]
    return [box for box in own if not any(around in own for around in box.iterancestors())]


def _picture_ids(element: Any) -> Iterator[tuple[str, str]]:
    """Yield the description of each picture of a paragraph, perhaps empty, and its relation."""
    for drawing in element.iter(qn("w:drawing"), qn("w:pict")):
        again = any(local_name(around) == "Fallback" for around in drawing.iterancestors())
        images = [node for node in drawing.iter() if local_name(node) in ("blip", "imagedata")]
        if images and not again:
            about = next((node.get("descr") for node in drawing.iter(qn("wp:docPr"))), None)
            yield about or "", images[0].get(qn("r:embed")) or images[0].get(qn("r:id")) or ""


def _in_fixed_font(element: Any) -> bool:
    """Return whether all text of a paragraph is monospaced."""
    fonts = []
    for run in element.iter(qn("w:r")):
        if any((text.text or "").strip() for text in run.iter(qn("w:t"))):
            texts = run.find(f"{qn('w:rPr')}/{qn('w:rFonts')}")
            fonts.append(texts.get(qn("w:ascii")) or "" if texts is not None else "")
    return bool(fonts) and all(_FIXED_FONTS.search(font) for font in fonts)


def _cells(row: Any, above: list[str]) -> list[str]:
    """Return a row's cells; column spans appear in the first, row spans in each row."""
    cells: list[str] = []
    before = row.find(f"{qn('w:trPr')}/{qn('w:gridBefore')}")
    cells += [""] * _count(before)
    for cell in _inner(row, {"tc"}):
        properties = cell.find(qn("w:tcPr"))
        merged = properties.find(qn("w:vMerge")) if properties is not None else None
        span = properties.find(qn("w:gridSpan")) if properties is not None else None
        goes_on = merged is not None and merged.get(qn("w:val")) != "restart"
        own = "\n".join(filter(str.strip, map(_text, _paragraphs(cell))))
        cells.append(above[len(cells)] if goes_on and len(cells) < len(above) else own)
        cells += [""] * (_count(span) - 1)
    return cells


def _paragraphs(cell: Any) -> Iterator[Any]:
    """A cell's paragraphs, those of tables inside it too, without text boxes."""
    todo = list(reversed(cell))
    while todo:
        element = todo.pop()
        name = local_name(element)
        if name == "p":
            yield element
        elif name not in _NOT_SHOWN:
            todo += reversed(element)


def _count(element: Any) -> int:
    text = element.get(qn("w:val")) or "" if element is not None else ""
    return min(int(text), _MAX_SPANNED) if text.isdigit() else 0


def _notes(document: Document) -> dict[tuple[str, str], str]:
    """Footnotes and endnotes by their kind and number."""
    results: dict[tuple[str, str], str] = {}
    for relation in document.part.rels.values():
        kind = relation.reltype.rsplit("/", 1)[-1].removesuffix("s")
        if kind in ("footnote", "endnote") and not relation.is_external:
            for note in parse_xml(relation.target_part.blob):
                paragraphs = [_text(part) for part in note.iter() if local_name(part) == "p"]
                results[kind, attribute(note, "id") or ""] = " ".join(paragraphs)
    return results
