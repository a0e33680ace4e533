"""Whole tables of a document, with typed cells."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from fontanel.core.answering.composing.quantities import UNITS, value_of
from fontanel.core.answering.composing.statements import Statement, statements
from fontanel.core.answering.evidence import EvidencePassage

_AMOUNT = re.compile(
    r"\s*(?P<sign>[€£$])?\s*(?P<number>\d[\d.,]*)\s*(?P<unit>[^\W\d_]+|%|°C|[€£$])?\.?\s*", re.I
)
#: Cells that say that there is nothing.
NOTHING = re.compile(r"\s*(?:none|no|not|nil|n/?a|never|without|0|[-–—]*)\s*", re.I)
#: A unit -> the unit in which it is compared, and its size in that.
_BASE = {
    "km": ("m", 1000.0),
    "cm": ("m", 0.01),
    "mm": ("m", 0.001),
    "foot": ("m", 0.3048),
    "inch": ("m", 0.0254),
    "tonne": ("kg", 1000.0),
    "g": ("kg", 0.001),
    "hour": ("minute", 60.0),
    "second": ("minute", 1 / 60),
    "kw": ("watt", 1000.0),
}


@dataclass(frozen=True, slots=True)
class Amount:
    """A number with its unit, in the unit in which it is compared."""

    value: float
    unit: str


@dataclass(frozen=True, slots=True)
class TableRows:
    """All rows of one table, in order."""

    columns: tuple[str, ...]
    rows: tuple[Statement, ...]

    def amounts(self, column: int, rows: Sequence[Statement] | None = None) -> list[Amount | None]:
        """Return the amount in each row's cell of a column; None for any other text.

        Args:
            rows: Some of the rows; default: all.
        """
        unit = _unit_of(self.columns[column])
        chosen = self.rows if rows is None else rows
        return [amount_in(row.cells[column], unit) for row in chosen]

    def written(self, rows: Sequence[Statement], column: int, value: float) -> str:
        """Return a value with the unit of the rows' cells, as they write it.

        If they write several, it is the unit of comparison.
        """
        matches = [_AMOUNT.fullmatch(row.cells[column]) for row in rows]
        written = {(m["sign"] or "", m["unit"] or "") for m in matches if m}
        if len(written) > 1:
            [amount] = self.amounts(column, rows[:1])
            return f"{round(value, 4):,.10g} {amount.unit if amount else ''}".rstrip()
        sign, unit = written.pop()
        size = _BASE.get(
            _known((sign or unit).lower()) or _unit_of(self.columns[column]), ("", 1.0)
        )[1]
        return f"{sign}{round(value / size, 4):,.10g} {unit}".rstrip()

    def names(self) -> list[str]:
        return [row.cells[0].strip() for row in self.rows]


def amount_in(text: str, unit: str = "") -> Amount | None:
    """Return the amount that a text is; None if it is or has anything else.

    Args:
        unit: The unit of a number without one.
    """
    match = _AMOUNT.fullmatch(text)
    if match is None:
        return None
    written = (match["sign"] or match["unit"] or "").lower()
    known = _known(written) or unit
    base, size = _BASE.get(known, (known, 1.0))
    return Amount(value_of(match["number"].rstrip(".,")) * size, base)


def _known(unit: str) -> str:
    """Return a unit in the form of `UNITS`; as it is written if it is not among them."""
    plain = unit.removesuffix("s")
    return UNITS.get(unit) or UNITS.get(plain) or UNITS.get(unit.removesuffix("es")) or plain


def _unit_of(column: str) -> str:
    """Return the unit that a column's name ends with, as in "Load (kg)"."""
    words = re.findall(r"[^\W\d_]+|[%€£$]", column.lower())
    return UNITS.get(words[-1], "") if len(words) > 1 else ""


def tables_in(document: Sequence[EvidencePassage]) -> list[TableRows]:
    """Return the whole tables of a document; those with rows of different lengths are left out.

    Rows of one table follow each other under the same heading and columns.

    Args:
        document: All passages of the document, in order.
    """
    tables: list[list[Statement]] = []
    open_table: tuple[object, ...] | None = None
    seen: set[int] = set()
    for passage in document:
        for statement in statements(passage):
            if statement.start in seen:
                continue  # repeated by an overlap
            seen.add(statement.start)
            if statement.kind != "row":
                open_table = None
                continue
            key = (statement.columns, tuple(statement.locator.heading_path))
            if key != open_table:
                tables.append([])
                open_table = key
            tables[-1].append(statement)
    return [
        TableRows(rows[0].columns, tuple(rows))
        for rows in tables
        if rows[0].columns and all(len(row.cells) == len(rows[0].columns) for row in rows)
    ]
