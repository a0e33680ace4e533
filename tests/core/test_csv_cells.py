"""Cells that a spreadsheet would take for formulas."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.csv_cells import guarded, unguarded


@given(st.text("'=+-@\t\rab1 ", max_size=8))
def test_a_guarded_cell_does_not_begin_like_a_formula_and_comes_back(cell: str) -> None:
    written = guarded(cell)
    assert not written.startswith(("=", "+", "-", "@", "\t", "\r"))
    assert unguarded(written) == cell


@pytest.mark.parametrize("cell", ["", "Berth 4", "'tis", 4, 0.5, None])
def test_other_cells_stay_as_they_are(cell: object) -> None:
    assert guarded(cell) == cell
