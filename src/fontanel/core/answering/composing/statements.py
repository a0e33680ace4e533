"""Statements: the sentences, list items and table rows that answers quote."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from fontanel.core.answering.evidence import EvidencePassage
from fontanel.core.answering.injection import orders
from fontanel.core.passages.splitting import Locator, PassagePart, locator_at
from fontanel.core.reading.model import CELL_SEPARATOR
from fontanel.core.text.sentences import sentence_spans

_MARK = re.compile(r"^\s*(?:[-•*]|\(?\d{1,3}[.)]|\(?[a-z][.)])\s+")


@dataclass(frozen=True, slots=True)
class Statement:
    """Something that can be quoted: characters [start, end) of a revision.

    `text` is the statement in an answer: a sentence verbatim, an item without its mark, a row with
    its column names. `lead` is its context (a list's lead-in, a table's first column name). `part`
    numbers the block in its passage.
    """

    passage: EvidencePassage
    part: int
    kind: str
    start: int
    end: int
    text: str
    lead: str = ""
    #: Of a row: the names of its table's columns.
    columns: tuple[str, ...] = ()

    @property
    def cells(self) -> list[str]:
        """The cells of a row, unchanged."""
        passage = self.passage
        return passage.text[self.start - passage.start : self.end - passage.start].split(
            CELL_SEPARATOR
        )

    @property
    def place(self) -> tuple[int, int]:
        """Its passage and the offset where it starts, which tell it from all others."""
        return self.passage.passage_id, self.start

    @property
    def locator(self) -> Locator:
        """Its location, which may be in a later section than the start of its passage."""
        passage = self.passage
        return locator_at(passage.locator, passage.parts, passage.text, passage.start, self.start)

    @property
    def heading(self) -> str:
        """The heading above it."""
        path = self.locator.heading_path
        return path[-1] if path else self.passage.title

    @property
    def in_context(self) -> str:
        """Its text below its heading and its lead."""
        return f"{self.heading}\n{self.lead}\n{self.text}"


def statements(passage: EvidencePassage) -> list[Statement]:
    """Return the statements of a passage in reading order.

    Excludes headings, code comments, and sentences addressed to a language model. Code is one
    statement.
    """
    result = _all_statements(passage)
    return [
        statement
        for statement, order in zip(result, orders([s.text for s in result]), strict=True)
        if not order
    ]


def planted(passage: EvidencePassage) -> list[Statement]:
    """Return the statements of a passage that give instructions to a language model."""
    result = _all_statements(passage)
    return [
        statement
        for statement, order in zip(result, orders([s.text for s in result]), strict=True)
        if order
    ]


def _all_statements(passage: EvidencePassage) -> list[Statement]:
    parts = passage.parts or (
        PassagePart("paragraph", passage.start, passage.start + len(passage.text)),
    )
    results: list[Statement] = []
    lead = passage.context
    for number, part in enumerate(parts):
        text = passage.text[part.start - passage.start : part.end - passage.start]
        if part.kind == "heading":
            continue
        if part.kind == "list":
            results += _items(passage, number, part, text, lead)
        elif part.kind == "table":
            results += _rows(passage, number, part, text)
        elif part.kind == "code":
            results.append(Statement(passage, number, "code", part.start, part.end, text, lead))
        else:
            spans = sentence_spans(text)
            results += [
                Statement(
                    passage,
                    number,
                    "sentence",
                    part.start + start,
                    part.start + end,
                    text[start:end],
                )
                for start, end in spans
            ]
            last = text[spans[-1][0] : spans[-1][1]] if spans else ""
            lead = last if last.endswith(":") else ""
            continue
        lead = ""
    return results


def _items(
    passage: EvidencePassage, number: int, part: PassagePart, text: str, lead: str
) -> Iterator[Statement]:
    position = part.start
    for line in text.split("\n"):
        mark = _MARK.match(line)
        body = line[mark.end() :] if mark else line.strip()
        if body:
            start = position + len(line) - len(line.lstrip()) if not mark else position + mark.end()
            yield Statement(passage, number, "item", start, position + len(line), body, lead)
        position += len(line) + 1


def _rows(
    passage: EvidencePassage, number: int, part: PassagePart, text: str
) -> Iterator[Statement]:
    lines = text.split("\n")
    columns = lines[0].split(CELL_SEPARATOR) if part.header_rows else passage.context.split(" | ")
    position = part.start
    for index, line in enumerate(lines):
        if index >= part.header_rows and line.strip():
            yield Statement(
                passage,
                number,
                "row",
                position,
                position + len(line),
                row_text(columns, line),
                " ".join(columns),
                tuple(columns),
            )
        position += len(line) + 1


def row_text(columns: list[str], line: str) -> str:
    """Return a table row as a statement: its first cell, then columns and values."""
    cells = line.split(CELL_SEPARATOR)
    if len(columns) != len(cells):
        return "; ".join(cell for cell in cells if cell)
    pairs = [
        f"{name}: {cell}" if name else cell
        for name, cell in zip(columns[1:], cells[1:], strict=True)
        if cell
    ]
    first = f"{columns[0]}: {cells[0]}" if columns[0] and len(cells[0].split()) <= 1 else cells[0]
    return "; ".join(part for part in [first, *pairs] if part)
