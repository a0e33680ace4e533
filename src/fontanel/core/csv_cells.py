"""Cells of CSV files that no spreadsheet takes for a formula."""

from __future__ import annotations

from typing import TypeVar

#: How what a spreadsheet takes for a formula begins.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")

Cell = TypeVar("Cell")


def guarded(cell: Cell) -> Cell | str:
    """Return a cell with an apostrophe before what would be a formula."""
    return f"'{cell}" if isinstance(cell, str) and _is_formula(cell) else cell


def unguarded(cell: str) -> str:
    """Return a cell as it was before it was guarded."""
    return cell[1:] if cell.startswith("'") and _is_formula(cell) else cell


def _is_formula(cell: str) -> bool:
    """Return whether a cell begins like a formula, or like a guarded one."""
    return cell.lstrip("'").startswith(_FORMULA)
