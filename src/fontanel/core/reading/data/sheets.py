"""Workbooks (XLSX, XLS, XLSB, ODS) through calamine: each sheet with its tables."""

from __future__ import annotations

import io
from xml.parsers import expat

import python_calamine as calamine

from fontanel.core.reading.data.cells import add_grid
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed
from fontanel.core.reading.other.archive import open_archive, read_entry

_MAX_CELLS = 20_000_000
_DAMAGED = "The workbook is damaged. Save it again, and add the new file."


def read_workbook(data: bytes) -> ReadingBuilder:
    """Read the visible sheets, in their order.

    Raises:
        ReadingFailed: damaged, encrypted or too_large.
    """
    if data.startswith(b"PK"):
        archive = open_archive(data)
        if "content.xml" in archive.namelist():
            _check_well_formed(read_entry(archive, "content.xml"))
    try:
        workbook = calamine.load_workbook(io.BytesIO(data))
        sheets = workbook.sheets_metadata
    except calamine.PasswordError as error:
        raise ReadingFailed(
            "encrypted", "The workbook is encrypted. Add a copy without a password."
        ) from error
    except (calamine.CalamineError, OSError, ValueError) as error:
        raise ReadingFailed("damaged", _DAMAGED) from error
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
        if cells > _MAX_CELLS:
            raise ReadingFailed(
                "too_large", f"The workbook has more than {_MAX_CELLS:,} cells. Add it in parts."
            )
        builder.heading(sheet.name, 1)
        add_grid(builder, rows, 1 + (start[0] if start else 0))
    builder.pages = len(builder.unit_names)
    return builder


def _check_well_formed(content: bytes) -> None:
    """Check the markup first: malformed open spreadsheets send calamine into a loop."""
    try:
        expat.ParserCreate().Parse(content, True)  # noqa: FBT003
    except (expat.ExpatError, ValueError) as error:
        raise ReadingFailed("damaged", _DAMAGED) from error
