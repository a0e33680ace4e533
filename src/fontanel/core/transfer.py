"""Records in files: JSON Lines, or CSV with the same fields as columns."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any, Literal

from fontanel.core.csv_cells import guarded, unguarded

Form = Literal["jsonl", "csv"]


@dataclass(frozen=True, slots=True)
class Columns:
    """The columns of a CSV file. Those of `lists` have one entry to a line of their cell."""

    names: tuple[str, ...]
    needed: tuple[str, ...]
    lists: tuple[str, ...] = ()


class UnreadableFile(ValueError):
    """The file is not in the form that it is said to have."""


def parse(form: Form, text: str, columns: Columns) -> Iterator[tuple[int, Any]]:
    """Yield each line's number in the file, from 1, with its fields; a string is a problem.

    Raises:
        UnreadableFile: a CSV file lacks a needed column or has one that is not known.
    """
    return _json_lines(text) if form == "jsonl" else _csv(text, columns)


def _json_lines(text: str) -> Iterator[tuple[int, Any]]:
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        try:
            yield number, json.loads(line)
        except (ValueError, RecursionError) as error:
            yield number, f"The line is not JSON: {str(error)[:200]}."


def _csv(text: str, columns: Columns) -> Iterator[tuple[int, Any]]:
    reader = csv.DictReader(io.StringIO(text.removeprefix("\ufeff")), strict=True)
    reader.fieldnames = _columns(reader, columns)
    while True:
        try:
            row = next(reader, None)
        except csv.Error as error:
            yield reader.line_num, f"The line is not CSV: {error}."
            return
        if row is None:
            return
        if None in row or None in row.values():
            yield reader.line_num, "The line has another number of cells than the first one."
            continue
        fields: dict[str, Any] = {
            name: unguarded(cell) for name, cell in row.items() if cell.strip()
        }
        for name in set(columns.lists) & set(fields):
            fields[name] = [line.strip() for line in fields[name].splitlines() if line.strip()]
        yield reader.line_num, fields


def _columns(reader: csv.DictReader[str], columns: Columns) -> list[str]:
    """Return the names of the columns. Raises UnreadableFile."""
    try:
        names = [name.strip().lower() for name in reader.fieldnames or ()]
    except csv.Error as error:
        raise UnreadableFile(f"The file is not CSV: {error}.") from error
    for needed in columns.needed:
        if needed not in names:
            raise UnreadableFile(f"The file has no column {needed!r}.")
    if unknown := [name for name in names if name not in columns.names]:
        raise UnreadableFile(
            f"The column {unknown[0]!r} is not known. Columns are {', '.join(columns.names)}."
        )
    return names


def dump(form: Form, lines: Iterable[dict[str, Any]], columns: Columns) -> str:
    """Return a file of records."""
    if form == "jsonl":
        return "".join(json.dumps(line, ensure_ascii=False) + "\n" for line in lines)
    out = io.StringIO()
    writer = csv.DictWriter(out, columns.names)
    writer.writeheader()
    for line in lines:
        cells = {
            name: "\n".join(value) if name in columns.lists else value
            for name, value in line.items()
        }
        writer.writerow({name: guarded(cell) for name, cell in cells.items()})
    return out.getvalue()
