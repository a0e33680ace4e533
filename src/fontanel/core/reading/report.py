"""The reading report: numbers that a person can compare with the original."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import asdict, dataclass
from typing import Any

from fontanel.core.reading.model import CELL_SEPARATOR, Reading

_WORD = re.compile(r"\w+(?:['’-]\w+)*")


@dataclass(frozen=True, slots=True)
class Report:
    """Counts of a reading; `recognised` are recognised pages with confidence in 0-1.

    `left_out` counts the blocks that repeat on other pages of the source.
    """

    unit: str
    pages: int | None
    words: int
    characters: int
    blocks: dict[str, int]
    table_rows: int
    figures: int
    recognised: list[tuple[int, float]]
    language: str
    left_out: int = 0

    def to_dict(self) -> dict[str, Any]:
        return asdict(self)


def report_of(reading: Reading) -> Report:
    """Count a reading's words, blocks, rows and recognised pages."""
    results: dict[int, list[float]] = {}
    rows = 0
    for block in reading.blocks:
        if block.kind == "table":
            rows += reading.text.count("\n", block.start, block.end) + 1 - block.header_rows
        if block.confidence is not None and block.page is not None:
            results.setdefault(block.page, []).append(block.confidence)
    return Report(
        unit=reading.unit,
        pages=reading.pages,
        words=sum(1 for _ in _WORD.finditer(reading.text.replace(CELL_SEPARATOR, " "))),
        characters=len(reading.text),
        blocks=dict(Counter(block.kind for block in reading.blocks)),
        table_rows=rows,
        figures=reading.figures,
        recognised=[
            (page, round(sum(values) / len(values), 3)) for page, values in sorted(results.items())
        ],
        language=reading.language,
        left_out=sum(block.left_out for block in reading.blocks),
    )
