"""RTF: structure by styles and outline levels, or else by the size of the letters."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

from fontanel.core.reading.model import ReadingBuilder, collapse
from fontanel.core.reading.word.flow import Flow, is_code_style, is_contents_style
from fontanel.core.reading.word.rtf_model import RichParagraph, RichTable
from fontanel.core.reading.word.rtf_text import rich_text

#: What a numbered item shows in front; anything else is a bullet.
_NUMBER = re.compile(r"^\(?(?:\d{1,4}(?:\.\d{1,3})*[.)]?|\w{1,6}[.)])$")
#: The maximum length of a heading, and how much larger its letters are without styles.
_LONGEST, _LARGER = 120, 1.15


def read_rtf(data: bytes) -> ReadingBuilder:
    """Raises ReadingFailed(damaged)."""
    result = rich_text(data)
    builder = ReadingBuilder(title=collapse(result.title))
    if result.cut_short:
        builder.warnings.append("The file is cut short; what comes before that was read")
    paragraphs = [part for part in result.parts if isinstance(part, RichParagraph)]
    if not any(part.outline for part in paragraphs):
        _rank_by_size(paragraphs)
    flow = Flow(builder)
    for part in result.parts:
        if isinstance(part, RichTable):
            flow.table(part.rows, part.header_rows, part.notes)
        elif is_contents_style(part.style):
            continue
        elif part.outline or part.style == "title":
            builder.title = builder.title or (collapse(part.text) if part.style == "title" else "")
            flow.heading(part.text, part.outline or 1, part.notes)
        elif part.marker is not None:
            flow.item(
                part.marker if _NUMBER.match(part.marker) else "-",
                part.text,
                part.depth,
                part.notes,
            )
        elif part.fixed or is_code_style(part.style):
            flow.code(part.text, part.notes)
        else:
            flow.line(part.text, part.notes)
    flow.end()
    builder.figures = result.pictures
    return builder


def _rank_by_size(paragraphs: Sequence[RichParagraph]) -> None:
    """Rank short paragraphs in larger letters as headings, then those that are bold."""
    letters: Counter[int] = Counter()
    for part in paragraphs:
        letters[part.size] += len(part.text)
    if not letters:
        return
    body = letters.most_common(1)[0][0]
    short = [
        part
        for part in paragraphs
        if len(part.text) <= _LONGEST
        and part.marker is None
        and not part.fixed
        and part.text.strip()[:1].isalnum()
        and not part.text.rstrip().endswith((".", ",", ";", ":"))
    ]
    sizes = sorted({part.size for part in short if part.size >= body * _LARGER}, reverse=True)
    whole = sum(not part.bold for part in paragraphs)
    for part in short:
        if part.size in sizes:
            part.outline = min(sizes.index(part.size) + 1, 6)
        elif part.bold and whole > len(paragraphs) / 2:
            part.outline = min(len(sizes) + 1, 6)
