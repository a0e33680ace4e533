"""What rich text consists of: paragraphs and tables with their properties."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(slots=True)
class RichParagraph:
    """A paragraph's text and properties.

    `outline` is its rank as a heading, from 1, or 0. `marker` is a list item's mark, None for other
    paragraphs, `depth` its nesting; `style` is its style's name in lower case. `size` (half points)
    and `bold` apply to most of its characters.
    """

    text: str
    outline: int = 0
    marker: str | None = None
    depth: int = 0
    size: int = 24
    bold: bool = False
    fixed: bool = False
    style: str = ""
    notes: list[str] = field(default_factory=list)


@dataclass(slots=True)
class RichTable:
    """Rows of cells; the first `header_rows` repeat at the head of each page."""

    rows: list[list[str]]
    header_rows: int = 0
    notes: list[str] = field(default_factory=list)


@dataclass(slots=True)
class RichText:
    title: str = ""
    parts: list[RichParagraph | RichTable] = field(default_factory=list)
    pictures: int = 0
    cut_short: bool = False
