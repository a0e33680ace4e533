"""Paragraph styles and lists of a Word document, read once."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any, NamedTuple

from docx.document import Document
from docx.oxml.ns import qn

from fontanel.core.reading.word.flow import heading_rank

_LIST = re.compile(r"^list (bullet|number)(?: (\d))?$", re.IGNORECASE)
_DEEPEST = 6


class Mark(NamedTuple):
    """A paragraph's list (0: by style only), depth, and whether it is numbered."""

    number: int
    level: int
    ordered: bool


@dataclass(frozen=True, slots=True)
class Style:
    """A style's name, heading rank (0: none), list and level."""

    name: str = ""
    rank: int = 0
    number: int | None = None
    level: int = 0


class WordStyles:
    def __init__(self, document: Document) -> None:
        self._elements: dict[str, Any] = {}
        self._default = ""
        for element in document.styles.element.findall(qn("w:style")):
            if (element.get(qn("w:type")) or "paragraph") == "paragraph":
                identity = element.get(qn("w:styleId")) or ""
                self._elements[identity] = element
                if element.get(qn("w:default")) in ("1", "true", "on"):
                    self._default = identity
        self._known: dict[str, Style] = {}
        self._formats = _formats(document)

    def of(self, properties: Any) -> Style:
        """The style of a paragraph, by its `w:pPr` or None."""
        identity = _said(properties, "w:pStyle") or self._default
        if identity not in self._elements:
            identity = self._default
        if identity not in self._known:
            self._known[identity] = self._learn(identity)
        return self._known[identity]

    def rank(self, properties: Any, style: Style) -> int:
        """Return a paragraph's rank as a heading, its own or its style's; 0: none."""
        rank = _outline(properties)
        return style.rank if rank is None else rank

    def mark(self, properties: Any, style: Style) -> Mark | None:
        """Return a paragraph's list mark, None if it is not an item."""
        if match := _LIST.match(style.name):
            return Mark(0, int(match.group(2) or 1) - 1, match.group(1).lower() == "number")
        if self.rank(properties, style):
            return None
        number, level = style.number, style.level
        own = properties.find(qn("w:numPr")) if properties is not None else None
        if own is not None:
            text = _number(own, "w:numId")
            number = number if text is None else text
            level = _number(own, "w:ilvl") or 0
        if not number:
            return None
        return Mark(
            number,
            min(level, _DEEPEST),
            self._formats.get((number, level), "bullet") not in ("bullet", "none"),
        )

    def _learn(self, identity: str) -> Style:
        """Resolve a style with what it inherits."""
        rank: int | None = None
        number: int | None = None
        level = 0
        passed: set[str] = set()
        own = identity
        while identity in self._elements and identity not in passed:
            passed.add(identity)
            element = self._elements[identity]
            properties = element.find(qn("w:pPr"))
            if rank is None:
                rank = heading_rank(_said(element, "w:name")) or _outline(properties)
            listed = properties.find(qn("w:numPr")) if properties is not None else None
            if number is None and listed is not None:
                number, level = _number(listed, "w:numId"), _number(listed, "w:ilvl") or 0
            identity = _said(element, "w:basedOn")
        name = _said(self._elements[own], "w:name") if own in self._elements else ""
        return Style(name, rank or 0, number, level)


def _said(parent: Any, name: str) -> str:
    element = parent.find(qn(name)) if parent is not None else None
    return (element.get(qn("w:val")) or "") if element is not None else ""


def _number(parent: Any, name: str) -> int | None:
    text = _said(parent, name)
    return int(text) if text.isdigit() and len(text) < 10 else None


def _outline(properties: Any) -> int | None:
    level = _number(properties, "w:outlineLvl")
    # The tenth level is that of text.
    return None if level is None else level + 1 if level < 9 else 0


def _formats(document: Document) -> dict[tuple[int, int], str]:
    """How the levels of each list are numbered."""
    try:
        numbering = document.part.numbering_part.element
    except (KeyError, NotImplementedError):
        return {}
    kinds: dict[str, dict[int, str]] = {}
    for abstract in numbering.findall(qn("w:abstractNum")):
        kinds[abstract.get(qn("w:abstractNumId")) or ""] = {
            int(level.get(qn("w:ilvl")) or 0): _said(level, "w:numFmt") or "decimal"
            for level in abstract.findall(qn("w:lvl"))
            if (level.get(qn("w:ilvl")) or "0").isdigit()
        }
    results: dict[tuple[int, int], str] = {}
    for one in numbering.findall(qn("w:num")):
        text = one.get(qn("w:numId")) or ""
        if text.isdigit():
            for level, kind in kinds.get(_said(one, "w:abstractNumId"), {}).items():
                results[int(text), level] = kind
    return results
