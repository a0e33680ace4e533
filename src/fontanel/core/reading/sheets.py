"""Workbooks (XLSX, XLS, XLSB, ODS) through calamine: each sheet with its tables."""

from __future__ import annotations

import io

import python_calamine as calamine

from fontanel.core.reading.archive import open_archive
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed
from fontanel.core.reading.tables import add_grid

_MOST_CELLS = 20_000_000


def read_workbook(data: bytes) -> ReadingBuilder:
    """Read the sheets that a person sees, in their order. Raises ReadingFailed: damaged, encrypted or too_large."""
    if data.startswith(b"PK"):
        open_archive(data)
    try:
        workbook = calamine.load_workbook(io.BytesIO(data))
        sheets = workbook.sheets_metadata
    except calamine.PasswordError as error:
        raise ReadingFailed("encrypted", "The workbook is encrypted. Add a copy without a password.") from error
    except (calamine.CalamineError, OSError, ValueError) as error:
        raise ReadingFailed("damaged", "The workbook is damaged. Save it again and add it anew.") from error
    builder = ReadingBuilder(unit="sheet")
    cells = 0
    for sheet in sheets:
        if sheet.typ != calamine.SheetTypeEnum.WorkSheet:
            continue
        if sheet.visible != calamine.SheetVisibleEnum.Visible:
            builder.warnings.append(f"The hidden sheet {sheet.name!r} was left out")
            continue
        builder.unit_names.append(sheet.name)
        builder.here = {"page": len(builder.unit_names)}
        try:
            content = workbook.get_sheet_by_name(sheet.name)
            rows = content.to_python(skip_empty_area=True)
            start = content.start
        except (calamine.CalamineError, OSError, ValueError):
            builder.warnings.append(f"The sheet {sheet.name!r} is damaged and was left out")
            continue
        cells += sum(len(row) for row in rows)
        if cells > _MOST_CELLS:
            raise ReadingFailed("too_large", f"The workbook has more than {_MOST_CELLS:,} cells. Add it in parts.")
        builder.heading(sheet.name, 1)
        add_grid(builder, rows, 1 + (start[0] if start else 0))
    builder.pages = len(builder.unit_names)
    return builder
