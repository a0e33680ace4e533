"""From lines on pages to blocks: headings, paragraphs, lists and tables.

Headings come from the outline where there is one, and from size and weight against the body text;
tables from drawn rules
and from cells that begin at like places.
"""

from __future__ import annotations

import itertools
import re
from dataclasses import dataclass, field

from fontanel.core.reading.model import LineBox, ReadingBuilder
from fontanel.core.reading.paged.code import code_lines, code_text
from fontanel.core.reading.paged.figures import PlacedPicture, add_picture, is_below
from fontanel.core.reading.paged.footnotes import note_text, take_footnotes
from fontanel.core.reading.paged.headings import (
    NUMBERED,
    Outline,
    TextStyle,
    heading_level,
    outline_lines,
    style_of,
)
from fontanel.core.reading.paged.lines import HYPHENS, Line, PageLines, join_words
from fontanel.core.reading.paged.ruled_tables import RuledTable, ruled_tables

_ITEM = re.compile(r"^(?:[•◦▪●○■–*·-]|\(?\d{1,3}[.)]|\(?[a-z][.)])(?:\s+\S|$)")
_BULLET = re.compile(r"^[•◦▪●○■–*·-]\s*")
_LEADER = re.compile(r"(?:\.\s?){4,}\s*(?:\d+|[ivxlc]+)\s*$")
_SENTENCE_END = re.compile(r"[.!?:;][\"'’”)\]]?$")


@dataclass(slots=True)
class _Group:
    """Lines that make one block. `kind` is as of `_kind`, or heading or code."""

    kind: str
    lines: list[Line] = field(default_factory=list)
    level: int = 0
    #: The notes of the pages on which the block ends or runs on: they come after it.
    notes: list[list[Line]] = field(default_factory=list)


def add_pages(builder: ReadingBuilder, pages: list[PageLines], outline: Outline) -> None:
    """Add the blocks of all pages to a reading."""
    for page in pages:
        page.lines[:] = [
            line for line in page.lines if line.text.count(".") < 4 or not _LEADER.search(line.text)
        ]
    join_words(pages)
    headings = outline_lines(pages, outline)
    blocks = _BlockMaker(builder, pages, headings)
    for page in pages:
        blocks.add_page(page)
    blocks.close()


class _BlockMaker:
    """Groups lines into blocks, one after the other; a block may run over pages."""

    def __init__(
        self, builder: ReadingBuilder, pages: list[PageLines], headings: dict[int, int]
    ) -> None:
        self._builder = builder
        self._headings = headings
        self._style = style_of(pages, headings)
        self._sizes = {page.number: (page.width, page.height) for page in pages}
        #: The block that further lines may continue.
        self._group: _Group | None = None
        #: Tables in the middle of a paragraph; they follow it.
        self._tables: list[tuple[RuledTable, int]] = []
        #: Pictures above the line that was added last; they follow its block.
        self._pictures: list[tuple[PlacedPicture, int]] = []

    def add_page(self, page: PageLines) -> None:
        """Add the lines of a page."""
        notes = take_footnotes(page, self._style.body)
        tables = ruled_tables(page)
        code = code_lines(page.lines)
        first_lines = {id(table.lines[0]): table for table in tables}
        pictures = list(page.pictures)
        in_tables = {id(line) for table in tables for line in table.lines}
        for line in page.lines:
            for placed in [one for one in pictures if is_below(line, one)]:
                pictures.remove(placed)
                self._pictures.append((placed, page.number))
            if table := first_lines.get(id(line)):
                self._add_table(table, page.number)
            elif id(line) not in in_tables:
                self._add_line(line, begins_code=code.get(id(line)))
        self._pictures += [(placed, page.number) for placed in pictures]
        if self._group is None:
            self.close()
        if notes and self._group is not None:
            self._group.notes += notes
        elif notes:
            _add_notes(self._builder, notes, self._sizes)

    def close(self) -> None:
        """End the block that is open."""
        _close(self._builder, self._group, self._style, self._sizes)
        self._group = None
        for table, page in self._tables:
            boxes = _boxes(table.lines, None, self._sizes)
            self._builder.table(table.rows, table.header_rows, boxes, page=page)
        self._tables = []
        for placed, page in self._pictures:
            add_picture(self._builder, placed, page, self._sizes[page])
        self._pictures = []

    def _add_table(self, table: RuledTable, page: int) -> None:
        self._tables.append((table, page))
        group = self._group
        unfinished = group is not None and group.kind == "paragraph" and _is_unfinished(group)
        if not unfinished:
            self.close()

    def _add_line(self, line: Line, *, begins_code: bool | None) -> None:
        """Add a line; `begins_code` is None for one that is not code."""
        level = self._headings.get(id(line)) or heading_level(line, self._style)
        if level:
            begins_code = None
        in_code = self._group is not None and self._group.kind == "code"
        if begins_code is False and in_code:
            self._extend(line)
        elif begins_code is not None:
            self._begin(_Group("code", [line]))
        elif in_code or self._group is None:
            self._begin(_Group("heading" if level else _kind(line), [line], level))
        elif self._belongs(self._group, line, level):
            self._extend(line)
        else:
            self._begin(_Group("heading" if level else _kind(line), [line], level))

    def _belongs(self, group: _Group, line: Line, level: int) -> bool:
        """Return whether a line continues the open block, perhaps after a table in its middle."""
        if self._tables:
            return not level and _kind(line) == "paragraph" and _resumes(group, line)
        return _continues(group, line, level, self._style)

    def _begin(self, group: _Group) -> None:
        self.close()
        self._group = group

    def _extend(self, line: Line) -> None:
        assert self._group is not None
        self._group.lines.append(line)


# What is a heading


# What is code


# Grouping


def _kind(line: Line) -> str:
    text = line.text
    # Most lines begin with a word, which no item does.
    if not text[:2].isalpha() and _ITEM.match(text):
        return "list"
    return "table" if len(line.cells) > 1 else "paragraph"


def _continues(group: _Group, line: Line, level: int, style: TextStyle) -> bool:
    """Return whether a line belongs to the block of the lines before it."""
    step = _Step(group.lines[-1], line)
    if level or group.kind == "heading":
        return level == group.level and _continues_heading(step)
    kind = _kind(line)
    if group.kind == "table" or kind == "table":
        return _continues_table(group, line, step)
    if group.kind == "list":
        return _continues_list(group, line, kind, step)
    return kind != "list" and _continues_paragraph(group, step)


class _Step:
    """From one line to the next."""

    def __init__(self, last: Line, line: Line) -> None:
        self.last = last
        self.line = line
        self.gap = last.baseline - line.baseline
        self.same_page = line.page == last.page
        self.next_page = line.page == last.page + 1
        # The size of a recognised line is known only roughly.
        self.guessed = line.confidence is not None
        reach = max(line.size, last.size) * (2.3 if self.guessed else 1.75)
        self.near = self.same_page and 0 < self.gap < reach


def _continues_heading(step: _Step) -> bool:
    last, line = step.last, step.line
    return (
        step.near
        and abs(line.size - last.size) <= 0.08 * last.size
        and line.bold == last.bold
        and not NUMBERED.match(line.text)
        and not _SENTENCE_END.search(last.text)
    )


def _continues_list(group: _Group, line: Line, kind: str, step: _Step) -> bool:
    if kind == "list":
        return step.next_page or (step.same_page and 0 < step.gap < line.size * 2.6)
    if step.next_page:
        return _runs_on(step.last, line)
    # The rest of an item is at or right of where the item began.
    return step.near and line.left > group.lines[0].left - 2


def _continues_paragraph(group: _Group, step: _Step) -> bool:
    last, line = step.last, step.line
    if step.next_page or (step.same_page and step.gap < 0):
        return _resumes(group, line)
    if not step.near or abs(line.size - last.size) >= (0.3 * last.size if step.guessed else 0.6):
        return False
    # The first line on a page or in a column has no line above it to compare with.
    above = group.lines[-2].baseline - last.baseline if len(group.lines) > 1 else 0.0
    pitch = above if above > 0 and group.lines[-2].page == last.page else step.gap
    if step.gap > pitch * 1.25 and step.gap > line.size * 1.3:
        return False
    if line.left - last.left <= line.size * 0.8 or len(group.lines) == 1:
        return True
    # An indented line after one that ends early begins a paragraph.
    short = last.right < max(item.right for item in group.lines) - 3 * line.size
    return not (short or _SENTENCE_END.search(last.text))


def _runs_on(last: Line, line: Line) -> bool:
    """Return whether a paragraph continues on the next page or column.

    It does if its last line ends no sentence.
    """
    return last.broken or (not _SENTENCE_END.search(last.text.rstrip()) and line.text[:1].islower())


def _is_unfinished(group: _Group) -> bool:
    """Return whether a paragraph's last line ends no sentence."""
    return not _SENTENCE_END.search(group.lines[-1].text.rstrip())


def _resumes(group: _Group, line: Line) -> bool:
    """Return whether a paragraph continues with a line after a page break or a table."""
    last = group.lines[-1]
    return abs(line.size - last.size) < 0.6 and (
        _runs_on(last, line) or _fills_its_column(group, line)
    )


def _fills_its_column(group: _Group, line: Line) -> bool:
    """Return whether a paragraph's last line ends no sentence and had no room for the next word.

    Then it continues on the next page or column even with a capital letter, as a name has.
    """
    last = group.lines[-1]
    if len(group.lines) < 2 or len(line.cells) > 1 or not _is_unfinished(group):
        return False
    letter = (last.right - last.left) / max(len(last.text), 1)
    word = letter * (1 + len(line.text.split(maxsplit=1)[0]))
    right = max(item.right for item in group.lines)
    return last.right + word > right and line.bold == last.bold and line.fixed == last.fixed


def _continues_table(group: _Group, line: Line, step: _Step) -> bool:
    if len(line.cells) == 1:
        # The second line of a cell begins where the cell began.
        return (
            step.near
            and group.kind == "table"
            and len(group.lines) >= 2
            and any(abs(line.left - cell.left) < 3 for row in group.lines for cell in row.cells[1:])
        )
    if group.kind != "table":
        return False
    # Rows of one table are further apart than lines of text.
    near = step.same_page and 0 < step.gap < line.size * 3.2
    return near and (len(step.last.cells) > 1 or len(group.lines) > 2)


# What a group becomes


def _close(
    builder: ReadingBuilder,
    group: _Group | None,
    style: TextStyle,
    sizes: dict[int, tuple[float, float]],
) -> None:
    if group is None:
        return
    first = group.lines[0]
    where = {"page": first.page}
    results = [line.confidence for line in group.lines if line.confidence is not None]
    if results:
        where["confidence"] = round(sum(results) / len(results), 3)  # type: ignore[assignment]
    if group.kind == "code":
        text, spans = code_text(group.lines)
        builder.code(text, _boxes(group.lines, spans, sizes), **where)
    elif group.kind == "heading":
        text, spans = _run_on(group.lines)
        builder.heading(text, group.level, _boxes(group.lines, spans, sizes), **where)
    elif group.kind == "table" and _is_table(group.lines):
        rows, header = _aligned_rows(group.lines)
        builder.table(rows, header, _boxes(group.lines, None, sizes), **where)
    elif group.kind == "list":
        items: list[str] = []
        spans = []
        length = 0
        run: list[Line] = []

        def finish() -> None:
            nonlocal length
            text, inner = _run_on(run)
            mark = _BULLET.match(text)
            shift = len("- ") - mark.end() if mark else 0
            spans.extend((max(length, length + a + shift), length + b + shift) for a, b in inner)
            text = _BULLET.sub("- ", text)
            items.append(text)
            length += len(text) + 1

        for line in group.lines:
            if run and _ITEM.match(line.text):
                finish()
                run = []
            run.append(line)
        finish()
        builder.list(items, _boxes(group.lines, spans, sizes), **where)
    else:
        text, spans = _run_on(group.lines)
        builder.paragraph(text, _boxes(group.lines, spans, sizes), **where)
    _add_notes(builder, group.notes, sizes)


def _add_notes(
    builder: ReadingBuilder, notes: list[list[Line]], sizes: dict[int, tuple[float, float]]
) -> None:
    for note in notes:
        text, _ = _run_on(note)
        builder.footnote(note_text(text), _boxes(note, None, sizes), page=note[0].page)


def _run_on(lines: list[Line]) -> tuple[str, list[tuple[int, int]]]:
    """Join lines, with the characters of each, rejoining hyphenated words."""
    parts: list[str] = []
    spans: list[tuple[int, int]] = []
    length = 0
    before: Line | None = None
    for line in lines:
        part = line.text
        if part and before is not None:
            last = parts[-1]
            if before.broken:
                joint = "" if before.whole else "-"
            elif last[-1] in HYPHENS and last[-2:-1].isalpha() and part[:1].islower():
                joint = ""
                if before.whole:
                    parts[-1], length = last[:-1], length - 1
            else:
                joint = " "
            if joint:
                parts.append(joint)
                length += len(joint)
        spans.append((length, length + len(part)))
        if part:
            parts.append(part)
            length += len(part)
            before = line
    return "".join(parts), spans


def _boxes(
    lines: list[Line], spans: list[tuple[int, int]] | None, sizes: dict[int, tuple[float, float]]
) -> list[LineBox]:
    """Return the boxes of lines in shares of their pages.

    Without spans (a table's rows move) each box is for the whole block.
    """
    out = []
    for line, (start, end) in zip(
        lines, spans or itertools.repeat((0, 0)), strict=spans is not None
    ):
        width, height = sizes[line.page]
        box = (
            line.left / width,
            1 - line.top / height,
            line.right / width,
            1 - line.bottom / height,
        )
        out.append(LineBox(start, end, line.page, box))
    return out


def _is_table(lines: list[Line]) -> bool:
    """Return whether rows have aligned cells, rather than just spaced words."""
    rows = [line for line in lines if len(line.cells) > 1]
    if len(rows) < 2:
        return False
    starts = [cell.left for line in rows for cell in line.cells[1:]]
    shared = sum(1 for place in starts if sum(abs(place - other) < 6 for other in starts) > 1)
    return shared >= 0.6 * len(starts)


def _aligned_rows(lines: list[Line]) -> tuple[list[list[str]], int]:
    places: list[float] = []
    for left in sorted(cell.left for line in lines for cell in line.cells):
        if not places or left - places[-1] > 12:
            places.append(left)
    rows: list[list[str]] = []
    previous: Line | None = None
    for line in lines:
        row = [""] * len(places)
        for cell in line.cells:
            column = min(range(len(places)), key=lambda c: abs(places[c] - cell.left))
            row[column] = f"{row[column]} {cell.text}".strip()
        if previous and not row[0] and previous.baseline - line.baseline < line.size * 1.65:
            rows[-1] = [
                f"{above} {below}".strip() for above, below in zip(rows[-1], row, strict=True)
            ]
        else:
            rows.append(row)
        previous = line
    return rows, 1 if (lines[0].bold and not lines[-1].bold) or len(rows) > 2 else 0
