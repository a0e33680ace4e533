"""JSON and JSON Lines.

Lists of similar records as tables, the rest as headings and lines.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from fontanel.core.reading.data.cells import shown
from fontanel.core.reading.decode import decode
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed

_MAX_DEPTH = 60
#: Characters past which a value is prose, not a cell.
_CELL = 200
_TITLES = ("title", "name", "subject", "heading", "question", "id")


def read_json(data: bytes) -> ReadingBuilder:
    """Read one JSON value, or one a line. Raises ReadingFailed(damaged)."""
    text, warnings = decode(data)
    builder = ReadingBuilder(warnings=warnings)
    try:
        value = json.loads(text, parse_constant=str)
    except RecursionError as error:
        raise ReadingFailed("damaged", "The JSON is nested too deeply to be read.") from error
    except ValueError as error:
        value, bad = _lines(text)
        if not value:
            raise ReadingFailed("damaged", f"The JSON is damaged: {error}.") from error
        if bad:
            shown_lines = ", ".join(map(str, bad[:10]))
            warnings.append(f"{len(bad)} lines are not JSON and were left out: {shown_lines}")
    if isinstance(value, dict):
        builder.title = next(
            (str(value[key]) for key in _TITLES if isinstance(value.get(key), str)), ""
        )
    _add(builder, value, 1)
    return builder


def _lines(text: str) -> tuple[list[Any], list[int]]:
    values: list[Any] = []
    bad: list[int] = []
    for number, line in enumerate(text.splitlines(), start=1):
        if line.strip():
            try:
                values.append(json.loads(line, parse_constant=str))
            except (ValueError, RecursionError):
                bad.append(number)
    return (values, bad) if len(values) > len(bad) else ([], bad)


def _add(builder: ReadingBuilder, value: Any, level: int) -> None:
    if level > _MAX_DEPTH:
        builder.warnings.append(f"Values nested deeper than {_MAX_DEPTH} levels were left out")
    elif isinstance(value, dict):
        _add_object(builder, value, level)
    elif isinstance(value, list):
        _add_list(builder, value, level)
    else:
        builder.paragraph(shown(value))


def _add_object(builder: ReadingBuilder, value: dict[str, Any], level: int) -> None:
    plain = {key: item for key, item in value.items() if not isinstance(item, (dict, list))}
    short = [
        f"- {key}: {text}"
        for key, item in plain.items()
        if (text := shown(item)) and len(text) <= _CELL
    ]
    builder.list(short)
    for key, item in value.items():
        if isinstance(item, (dict, list)):
            if item:
                builder.heading(key, level)
                _add(builder, item, level + 1)
        elif len(text := shown(item)) > _CELL:
            builder.heading(key, level)
            for paragraph in text.split("\n\n"):
                builder.paragraph(paragraph)


def _add_list(builder: ReadingBuilder, value: Sequence[Any], level: int) -> None:
    if all(isinstance(item, dict) for item in value) and value:
        columns = list(dict.fromkeys(key for item in value for key in item))
        flat = all(
            not isinstance(cell, (dict, list)) and len(shown(cell)) <= _CELL
            for item in value
            for cell in item.values()
        )
        if flat and 1 < len(columns) <= 60:
            builder.table(
                [columns, *([shown(item.get(key)) for key in columns] for item in value)], 1, row=1
            )
            return
        for number, item in enumerate(value, start=1):
            title = next(
                (str(item[key]) for key in _TITLES if isinstance(item.get(key), (str, int))), ""
            )
            builder.heading(title[:150] or f"Record {number}", level)
            _add(builder, item, level + 1)
    elif all(not isinstance(item, (dict, list)) for item in value):
        builder.list([f"- {shown(item)}" for item in value if shown(item)])
    else:
        for item in value:
            _add(builder, item, level + 1)
