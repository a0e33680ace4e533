"""CSV (RFC 4180) and its variants: one table with any separator."""

from __future__ import annotations

import csv
import io

from fontanel.core.reading.data.cells import add_grid
from fontanel.core.reading.decode import decode
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed

_SEPARATORS = ",;\t|"
_MAX_CELL = 30_000_000


def read_delimited(data: bytes) -> ReadingBuilder:
    text, warnings = decode(data)
    builder = ReadingBuilder(warnings=warnings)
    rows, closed = _rows(text)
    if not closed:
        builder.warnings.append(
            "A quotation mark is opened and never closed, so that all quotation marks were read as"
            " ordinary characters"
        )
    add_grid(builder, rows)
    return builder


def delimited_rows(text: str) -> list[list[str]]:
    """Return the rows, split by the separator that fits the first lines best.

    Raises:
        ReadingFailed: damaged.
    """
    return _rows(text)[0]


def _rows(text: str) -> tuple[list[list[str]], bool]:
    """The rows, and whether every quotation mark that opens a cell closes it again."""
    csv.field_size_limit(_MAX_CELL)
    sample = "\n".join(text.splitlines()[:50])
    best, best_score = ",", 0.0
    for separator in _SEPARATORS:
        try:
            widths = [
                len(row) for row in csv.reader(io.StringIO(sample), delimiter=separator) if row
            ]
        except csv.Error:
            continue
        usual = max(set(widths), key=widths.count) if widths else 0
        score = widths.count(usual) / len(widths) * min(usual - 1, 50) if usual > 1 else 0.0
        if score > best_score:
            best, best_score = separator, score
    try:
        if _all_close(text, best):
            return list(csv.reader(io.StringIO(text, newline=""), delimiter=best)), True
        # The first open one would swallow all that follows.
        return (
            list(csv.reader(io.StringIO(text, newline=""), delimiter=best, quoting=csv.QUOTE_NONE)),
            False,
        )
    except csv.Error as error:
        raise ReadingFailed(
            "damaged",
            f"The table cannot be read: a cell is longer than {_MAX_CELL // 1_000_000} MB"
            f" ({error}). Check how it was saved.",
        ) from error


def _all_close(text: str, separator: str) -> bool:
    try:
        for _ in csv.reader(io.StringIO(text, newline=""), delimiter=separator, strict=True):
            pass
    except csv.Error as error:
        # Strict parsing would also reject what is merely unusual, such as letters after a closing
        # quote.
        return "unexpected end of data" not in str(error) and "field larger" not in str(error)
    return True


def looks_delimited(text: str) -> bool:
    """Return whether a text is a table: the same number of cells on its first lines."""
    lines = [line for line in text.splitlines()[:30] if line.strip()]
    if len(lines) < 3:
        return False
    for separator in _SEPARATORS:
        try:
            widths = {len(row) for row in csv.reader(lines, delimiter=separator)}
        except csv.Error:
            continue
        if len(widths) == 1 and widths.pop() >= (2 if separator == "\t" else 3):
            return True
    return False
