"""Grouping paragraphs of word processors into lists, code blocks and notes."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from fontanel.core.reading.model import ReadingBuilder, collapse
from fontanel.core.reading.other.plain import add_line
from fontanel.core.reading.picture_files import picture_of

_CODE_STYLE = re.compile(
    r"\b(?:code|listing|preformatted|source text|html preformatted)\b", re.IGNORECASE
)
_HEADING_STYLE = re.compile(r"(?:heading|überschrift|titre)\s*(\d)", re.IGNORECASE)
_MAX_DEPTH = 6


def is_code_style(name: str) -> bool:
    """Return whether a paragraph style's name is that of code."""
    return _CODE_STYLE.search(name.replace("_20_", " ").replace("_", " ")) is not None


def heading_rank(name: str) -> int:
    """Return the rank of a heading style by its English, German or French name, or 0."""
    match = _HEADING_STYLE.match(name)
    return int(match.group(1)) if match else 0


def is_contents_style(name: str) -> bool:
    """Return whether a paragraph style is for tables of contents."""
    return name.lower().startswith(("toc ", "table of figures", "verzeichnis "))


class Flow:
    """Adds paragraphs to a reading in the order of the document.

    Adjacent items form a list, lines of code a block, and notes follow the list, code, table or
    paragraph that refers to them.
    """

    def __init__(self, builder: ReadingBuilder) -> None:
        self.builder = builder
        self._items: list[str] = []
        self._code: list[str] = []
        self._notes: list[str] = []

    def heading(self, text: str, level: int, notes: Iterable[str] = ()) -> None:
        self.end()
        self.builder.heading(text, level)
        self._notes += notes

    def paragraph(self, text: str, notes: Iterable[str] = ()) -> None:
        self.end()
        self.builder.paragraph(text)
        self._notes += notes

    def line(self, text: str, notes: Iterable[str] = ()) -> None:
        """A paragraph of a document whose headings and lists may be typed by hand."""
        self.end()
        add_line(self.builder, collapse(text))
        self._notes += notes

    def item(self, mark: str, text: str, depth: int, notes: Iterable[str] = ()) -> None:
        """An item of a list with its mark ("-", "3."), `depth` levels below the first."""
        if not self._items:
            self.end()
        self._items.append("  " * min(depth, _MAX_DEPTH) + f"{mark} {collapse(text)}".strip())
        self._notes += notes

    def code(self, text: str, notes: Iterable[str] = ()) -> None:
        """A line of code, or several."""
        if not self._code:
            self.end()
        self._code.append(text)
        self._notes += notes

    def table(
        self, rows: Sequence[Sequence[str]], header_rows: int, notes: Iterable[str] = ()
    ) -> None:
        """Add a table padded to its widest row.

        By default the first of several is a header.
        """
        self.end()
        header_rows = header_rows or (1 if len(rows) > 1 else 0)
        width = max((len(row) for row in rows), default=0)
        self.builder.table([[*row, *[""] * (width - len(row))] for row in rows], header_rows)
        self._notes += notes

    def figure(self, description: str, data: bytes = b"") -> None:
        """Add a picture with its description.

        Args:
            data: Its bytes, if they are known.
        """
        picture = picture_of(data) if data else None
        if description.strip() or picture or not (self._items or self._code):
            self.end()
        self.builder.figure(description, picture=picture, data=data)

    def end(self) -> None:
        """Add the block that is still open."""
        if self._items:
            self.builder.list(self._items)
        if self._code:
            self.builder.code("\n".join(self._code))
        for note in self._notes:
            self.builder.footnote(note)
        self._items, self._code, self._notes = [], [], []
