"""CSV (RFC 4180) and its relatives: one table, whatever separates its cells."""

from __future__ import annotations

import csv
import io

from fontanel.core.reading.decode import decode
from fontanel.core.reading.model import Member, ReadingBuilder, ReadingFailed, collapse
from fontanel.core.reading.tables import add_grid, header_rows

_SEPARATORS = ",;\t|"
_MOST_RECORDS = 20_000


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


def records(data: bytes, title: str | None, text_columns: list[str], tag_columns: list[str]) -> list[Member]:
    """Each row as a document of its own: a title, the named columns as its text, others as its tags.

    Raises ReadingFailed(damaged) when the first row does not name such columns.
    """
    text, _ = decode(data)
    rows = [row for row in delimited_rows(text) if any(cell.strip() for cell in row)]
    if not rows or not header_rows(rows[:50], range(len(rows[0]))):
        raise ReadingFailed("damaged", "The first row does not name the columns. Add the table with a header row.")
    names = [collapse(cell) for cell in rows[0]]
    for wanted in [*([title] if title else []), *text_columns, *tag_columns]:
        if wanted not in names:
            raise ReadingFailed(
                "damaged", f"The table has no column {wanted!r}; its columns are {', '.join(map(repr, names))}."
            )
    if len(rows) - 1 > _MOST_RECORDS:
        raise ReadingFailed(
            "too_large", f"The table has {len(rows) - 1:,} rows; at most {_MOST_RECORDS:,} become documents."
        )
    members = []
    for number, row in enumerate(rows[1:], start=2):
        cells = dict(zip(names, [collapse(cell) for cell in row], strict=False))
        heading = cells.get(title or "", "") or f"Row {number}"
        body = [cells[name] if len(text_columns) == 1 else f"{name}: {cells[name]}" for name in text_columns
                if cells.get(name)]  # fmt: skip
        tags = {_tag(name): cells[name][:200] for name in tag_columns if cells.get(name)}
        content = f"# {heading}\n\n" + "\n\n".join(body) + "\n"
        members.append(Member(f"row {number:06} {heading[:60]}.md".replace("/", "-"), content.encode(), tags))
    return members


def _tag(name: str) -> str:
    return "".join(c if c.isalnum() or c in "._-" else "_" for c in name)[:60] or "column"
