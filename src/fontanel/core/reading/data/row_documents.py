"""Rows of a table as separate documents, given the meaning of its columns."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import python_calamine as calamine

from fontanel.core.reading import detect
from fontanel.core.reading.data.cells import shown
from fontanel.core.reading.data.delimited import delimited_rows
from fontanel.core.reading.decode import decode
from fontanel.core.reading.model import ContainedFile, ReadingFailed, collapse

_MAX_RECORDS = 20_000


@dataclass(frozen=True, slots=True)
class Columns:
    """The columns of a table that name a row, contain its text, and become tags."""

    text: tuple[str, ...]
    title: str | None = None
    tags: tuple[str, ...] = ()

    @classmethod
    def of(cls, stored: Mapping[str, Any]) -> Columns:
        """Return columns as a revision stores them."""
        return cls(tuple(stored["text"]), stored.get("title"), tuple(stored.get("tags", ())))


def row_documents(data: bytes, media_type: str, columns: Columns) -> list[ContainedFile]:
    """Return each row of a CSV file, or of a workbook's first sheet, as a document.

    Raises:
        ReadingFailed: unsupported for what is not a table, damaged without such columns, too_large.
    """
    rows = [row for row in _rows(data, media_type) if any(cell.strip() for cell in row)]
    names = [collapse(cell) for cell in rows[0]] if rows else []
    for requested in [*([columns.title] if columns.title else []), *columns.text, *columns.tags]:
        if requested not in names:
            there = ", ".join(repr(name) for name in names if name) or "none"
            raise ReadingFailed(
                "damaged",
                f"The table has no column {requested!r} in its first row; it has: {there}.",
            )
    if len(rows) - 1 > _MAX_RECORDS:
        raise ReadingFailed(
            "too_large",
            f"The table has {len(rows) - 1:,} rows; at most {_MAX_RECORDS:,} become documents.",
        )
    return [_member(number, names, row, columns) for number, row in enumerate(rows[1:], start=2)]


def _rows(data: bytes, media_type: str) -> list[list[str]]:
    if media_type == detect.CSV:
        return delimited_rows(decode(data)[0])
    if media_type in (detect.XLSX, detect.XLS, detect.ODS):
        try:
            sheet: Sequence[Sequence[Any]] = (
                calamine.load_workbook(io.BytesIO(data)).get_sheet_by_index(0).to_python()
            )
        except (calamine.CalamineError, OSError, ValueError) as error:
            raise ReadingFailed(
                "damaged", "The workbook is damaged. Save it again, and add the new file."
            ) from error
        return [[shown(cell) for cell in row] for row in sheet]
    raise ReadingFailed(
        "unsupported",
        "Only a CSV or a workbook has columns. Add this file without column meanings.",
    )


def _member(number: int, names: list[str], row: list[str], columns: Columns) -> ContainedFile:
    cells = dict(zip(names, [collapse(cell) for cell in row], strict=False))
    heading = cells.get(columns.title or "", "") or f"Row {number}"
    alone = len(columns.text) == 1
    body = [
        cells[name] if alone else f"{name}: {cells[name]}"
        for name in columns.text
        if cells.get(name)
    ]
    tags = {tag_name(name): cells[name][:200] for name in columns.tags if cells.get(name)}
    content = f"# {heading}\n\n" + "\n\n".join(body) + "\n"
    return ContainedFile(
        f"row {number:06} {heading[:60]}.md".replace("/", "-"), content.encode(), tags
    )


def tag_name(column: str) -> str:
    """The tag that a column becomes."""
    return "".join(c if c.isalnum() or c in "._-" else "_" for c in column)[:60] or "column"
