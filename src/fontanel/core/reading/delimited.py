"""CSV (RFC 4180) and its relatives: one table, whatever separates its cells."""

from __future__ import annotations

import csv
import io

from fontanel.core.reading.decode import decode
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed
from fontanel.core.reading.tables import add_grid

_SEPARATORS = ",;\t|"


def read_delimited(data: bytes) -> ReadingBuilder:
    text, warnings = decode(data)
    builder = ReadingBuilder(warnings=warnings)
    add_grid(builder, delimited_rows(text))
    return builder


def delimited_rows(text: str) -> list[list[str]]:
    """The rows, by whichever separator cuts the first lines into like numbers of cells. Raises ReadingFailed(damaged)."""
    csv.field_size_limit(10_000_000)
    sample = "\n".join(text.splitlines()[:50])
    best, best_score = ",", 0.0
    for separator in _SEPARATORS:
        try:
            widths = [len(row) for row in csv.reader(io.StringIO(sample), delimiter=separator) if row]
        except csv.Error:
            continue
        usual = max(set(widths), key=widths.count) if widths else 0
        score = widths.count(usual) / len(widths) * min(usual - 1, 50) if usual > 1 else 0.0
        if score > best_score:
            best, best_score = separator, score
    try:
        return list(csv.reader(io.StringIO(text, newline=""), delimiter=best))
    except csv.Error as error:
        raise ReadingFailed("damaged", f"The table cannot be read: {error}. Save it again and add it anew.") from error


def looks_delimited(text: str) -> bool:
    """Whether a text without a telling name is a table: like numbers of cells on its first lines, by one separator."""
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
