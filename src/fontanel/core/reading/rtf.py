"""RTF, through striprtf: paragraphs, tables and the title of the document."""

from __future__ import annotations

import re

from striprtf.striprtf import rtf_to_text

from fontanel.core.reading.model import ReadingBuilder, ReadingFailed, collapse
from fontanel.core.reading.plain import add_line

_TITLE = re.compile(rb"\{\\title\s+([^{}]{1,300})\}")


def read_rtf(data: bytes) -> ReadingBuilder:
    """Raises ReadingFailed(damaged)."""
    try:
        text = rtf_to_text(data.decode("latin-1"), errors="ignore")
        title = (
            rtf_to_text("{\\rtf1 " + match.group(1).decode("latin-1") + "}") if (match := _TITLE.search(data)) else ""
        )
    except Exception as error:  # the parser raises what it stumbles over
        raise ReadingFailed("damaged", "The rich text is damaged. Save it again and add it anew.") from error
    builder = ReadingBuilder(title=collapse(title))
    rows: list[list[str]] = []
    for line in text.split("\n"):
        if line.count("|") >= 2 and line.rstrip().endswith("|"):
            rows.append(line.rstrip().rstrip("|").split("|"))
            continue
        if rows:
            builder.table(rows, 1 if len(rows) > 1 else 0)
            rows = []
        add_line(builder, line)
    builder.table(rows, 1 if len(rows) > 1 else 0)
    return builder
