"""What reading a document gives: its text, the blocks of which it is made, and what went wrong on the way."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any, Literal

BlockKind = Literal["heading", "paragraph", "list", "table", "code"]
FailureCode = Literal["empty", "encrypted", "damaged", "unsupported", "undecodable", "too_large", "no_text"]

#: What stands between two cells of a table's row in a reading's text. Cells themselves never hold it.
CELL_SEPARATOR = "\t"

_SPACE = re.compile(r"\s+")
_CONTROL = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f\ufffe\uffff]")


class ReadingFailed(Exception):
    """A document cannot be read. `code` is stable; the message tells a person what is wrong and what to do."""

    def __init__(self, code: FailureCode, message: str) -> None:
        super().__init__(message)
        self.code: FailureCode = code


@dataclass(frozen=True, slots=True)
class Block:
    """A piece of structure over the characters [start, end) of the reading's text.

    A list has one item a line, a table one row a line with its cells apart by `CELL_SEPARATOR`; the first `header_rows`
    lines of a table name its columns. `level` is a heading's rank from 1; `page` counts from 1; `anchor` is the fragment
    that leads to the block in the original.
    """

    kind: BlockKind
    start: int
    end: int
    level: int = 0
    page: int | None = None
    anchor: str | None = None
    header_rows: int = 0


@dataclass(frozen=True, slots=True)
class Reading:
    """The text of one revision with its structure. `pages` is None for formats without pages."""

    title: str
    text: str
    blocks: tuple[Block, ...]
    language: str = "en"
    pages: int | None = None
    warnings: tuple[str, ...] = ()

    def to_dict(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Reading:
        blocks = tuple(Block(**block) for block in data["blocks"])
        return cls(**{**data, "blocks": blocks, "warnings": tuple(data["warnings"])})

    def headed_blocks(self) -> Iterator[tuple[Block, tuple[str, ...]]]:
        """Yield each block with the path of headings above it; a heading's own text ends its path."""
        path: list[tuple[int, str]] = []
        for block in self.blocks:
            if block.kind == "heading":
                while path and path[-1][0] >= block.level:
                    path.pop()
                path.append((block.level, self.text[block.start : block.end]))
            yield block, tuple(text for _, text in path)


def collapse(text: str) -> str:
    """White space runs become one blank; ends are stripped; control characters are gone."""
    return _SPACE.sub(" ", _CONTROL.sub("", text)).strip()


@dataclass(slots=True)
class ReadingBuilder:
    """Builds a reading block by block, in reading order. Blocks without text are left out."""

    title: str = ""
    pages: int | None = None
    warnings: list[str] = field(default_factory=list)
    _parts: list[str] = field(default_factory=list)
    _blocks: list[Block] = field(default_factory=list)
    _length: int = 0

    def _add(self, kind: BlockKind, text: str, **where: Any) -> None:
        if not text.strip():
            return
        if self._parts:
            self._length += 2
        start, self._length = self._length, self._length + len(text)
        self._parts.append(text)
        self._blocks.append(Block(kind, start, self._length, **where))

    def heading(self, text: str, level: int, page: int | None = None, anchor: str | None = None) -> None:
        self._add("heading", collapse(text), level=level, page=page, anchor=anchor)

    def paragraph(self, text: str, page: int | None = None, anchor: str | None = None) -> None:
        self._add("paragraph", collapse(text), page=page, anchor=anchor)

    def list(self, items: Sequence[str], page: int | None = None, anchor: str | None = None) -> None:
        """Items carry their own marks ("- ", "1. "), and two blanks a level of nesting in front of them."""
        lines = []
        for item in items:
            depth = (len(item) - len(item.lstrip(" "))) // 2
            if text := collapse(item):
                lines.append("  " * depth + text)
        self._add("list", "\n".join(lines), page=page, anchor=anchor)

    def table(
        self, rows: Sequence[Sequence[str]], header_rows: int, page: int | None = None, anchor: str | None = None
    ) -> None:
        cells = [[collapse(cell) for cell in row] for row in rows]
        kept = [index for index, row in enumerate(cells) if any(row)]
        header = sum(1 for index in kept if index < header_rows)
        text = "\n".join(CELL_SEPARATOR.join(cells[index]) for index in kept)
        self._add("table", text, page=page, anchor=anchor, header_rows=header)

    def code(self, text: str, page: int | None = None, anchor: str | None = None) -> None:
        self._add("code", _CONTROL.sub("", text).strip("\n").rstrip(), page=page, anchor=anchor)

    @property
    def empty(self) -> bool:
        return not self._blocks

    def build(self, language: str) -> Reading:
        return Reading(
            title=self.title,
            text="\n\n".join(self._parts),
            blocks=tuple(self._blocks),
            language=language,
            pages=self.pages,
            warnings=tuple(self.warnings),
        )

    @property
    def text(self) -> str:
        return "\n\n".join(self._parts)

    @property
    def first_heading(self) -> str:
        for block, part in zip(self._blocks, self._parts, strict=True):
            if block.kind == "heading":
                return part
        return ""
