"""RTF: headings, paragraphs, lists, tables, code and footnotes, by styles and outline levels, or by how large letters are where there are none."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

from fontanel.core.reading.model import ReadingBuilder, collapse
from fontanel.core.reading.plain import add_line
from fontanel.core.reading.rtf_text import RichParagraph, RichTable, rich_text

#: What a numbered item shows in front; anything else is a bullet.
_NUMBER = re.compile(r"^\(?(?:\d{1,4}(?:\.\d{1,3})*[.)]?|\w{1,6}[.)])$")
#: A heading is no longer than this, and where there are no styles its letters are larger than those of the text by this share.
_LONGEST, _LARGER = 120, 1.15


def read_rtf(data: bytes) -> ReadingBuilder:
    """Raises ReadingFailed(damaged)."""
    found = rich_text(data)
    builder = ReadingBuilder(title=collapse(found.title))
    if found.cut_short:
        builder.warnings.append("The file is cut short; what comes before that was read")
    paragraphs = [part for part in found.parts if isinstance(part, RichParagraph)]
    if not any(part.outline for part in paragraphs):
        _rank_by_size(paragraphs)
    items: list[str] = []
    code: list[str] = []
    notes: list[str] = []

    def end(what: list[str]) -> None:
        if what is items:
            builder.list(items)
        elif code:
            builder.code("\n".join(code))
        what.clear()

    for part in found.parts:
        is_item = isinstance(part, RichParagraph) and part.marker is not None
        is_code = isinstance(part, RichParagraph) and part.fixed and not part.outline and not is_item
        if not is_item:
            end(items)
        if not is_code:
            end(code)
        if not (is_item or is_code):
            _add_notes(builder, notes)
        if isinstance(part, RichTable):
            builder.table(part.rows, part.header_rows or (1 if len(part.rows) > 1 else 0))
        elif is_code:
            code.append(part.text)
        elif is_item:
            mark = part.marker if part.marker and _NUMBER.match(part.marker) else "-"
            items.append("  " * part.depth + f"{mark} {collapse(part.text)}")
        elif part.outline or part.title:
            builder.title = builder.title or (collapse(part.text) if part.title else "")
            builder.heading(part.text, part.outline or 1)
        else:
            add_line(builder, collapse(part.text))
        notes += part.notes
    end(items)
    end(code)
    _add_notes(builder, notes)
    builder.figures = found.pictures
    return builder


def _add_notes(builder: ReadingBuilder, notes: list[str]) -> None:
    for note in notes:
        builder.footnote(note)
    notes.clear()


def _rank_by_size(paragraphs: Sequence[RichParagraph]) -> None:
    """Rank short paragraphs in letters larger than the text's as headings, the largest first; then those that are bold throughout."""
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
