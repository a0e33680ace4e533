"""Grids of cells as tables: regions, header rows, and values as displayed."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Sequence
from itertools import islice
from typing import Any

from fontanel.core.reading.model import ReadingBuilder

Row = Sequence[Any]


def shown(value: Any) -> str:
    """Return a cell's value as displayed.

    No trailing zeros, ISO 8601 dates, yes and no.
    """
    if value is None or value == "":
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() and abs(value) < 1e15 else f"{value:.12g}"
    if isinstance(value, dt.datetime):
        return (
            value.date().isoformat()
            if value.time() == dt.time()
            else value.isoformat(" ", "minutes")
        )
    if isinstance(value, dt.time):
        return value.isoformat("minutes" if not value.second else "seconds")
    if isinstance(value, dt.timedelta):
        minutes, seconds = divmod(round(value.total_seconds()), 60)
        return f"{minutes // 60}:{minutes % 60:02}" + (f":{seconds:02}" if seconds else "")
    return str(value)


def add_grid(builder: ReadingBuilder, rows: Sequence[Row], first_row: int = 1) -> None:
    """Add a sheet's cells: each run of non-empty rows is a table.

    A row with a single cell above it is its title.

    Args:
        first_row: The number of the first row, from 1.
    """
    for start, region in _regions(rows):
        row = first_row + start
        while (
            len(region) > 1
            and sum(1 for cell in region[0] if shown(cell)) == 1
            and _width(region[1:]) > 1
        ):
            builder.paragraph(next(text for cell in region[0] if (text := shown(cell))))
            region, row = region[1:], row + 1
        columns = _used_columns(region)
        if len(columns) == 1:
            for line in region:
                builder.paragraph(shown(line[columns[0]]) if columns[0] < len(line) else "")
            continue
        cells = [
            [shown(line[column]) if column < len(line) else "" for column in columns]
            for line in region
        ]
        builder.table(cells, header_rows(region, columns), row=row)


def header_rows(region: Sequence[Row], columns: Sequence[int]) -> int:
    """Return 1 if the first row names the columns, else 0.

    It has words in nearly every cell, no duplicates, and nothing that resembles the data.
    """
    if len(region) < 2:
        return 0
    first = [shown(region[0][column]) if column < len(region[0]) else "" for column in columns]
    named = [text for text in first if text]
    if (
        len(named) < max(2, len(columns) * 0.6)
        or len(set(named)) < len(named)
        or any(len(n) > 80 for n in named)
    ):
        return 0
    if any(_numeric(text) for text in named):
        # Years and months may be column headings if a name precedes them.
        return (
            1
            if not _numeric(named[0]) and not all(_numeric(text) for text in first[1:] if text)
            else 0
        )
    return 1


def _numeric(text: str) -> bool:
    return (
        text.replace(".", "").replace(",", "").replace("-", "").replace("%", "").strip().isdigit()
    )


def _regions(rows: Sequence[Row]) -> Iterator[tuple[int, list[Row]]]:
    region: list[Row] = []
    start = 0
    for number, row in enumerate(rows):
        if any(cell not in (None, "") for cell in row):
            if not region:
                start = number
            region.append(row)
        elif region:
            yield start, region
            region = []
    if region:
        yield start, region


def _width(rows: Sequence[Row]) -> int:
    return max((sum(1 for cell in row if shown(cell)) for row in islice(rows, 20)), default=0)


def _used_columns(rows: Sequence[Row]) -> list[int]:
    used: set[int] = set()
    for row in rows:
        used.update(index for index, cell in enumerate(row) if cell not in (None, ""))
    return sorted(used)
