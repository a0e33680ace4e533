"""From lines on pages to blocks: headings, paragraphs, lists and tables.

Headings come from the outline where there is one, and from size and weight against the body text; tables from drawn rules
and from cells that begin at like places.
"""

from __future__ import annotations

import itertools
import re
from collections import Counter
from dataclasses import dataclass, field
from functools import lru_cache
from statistics import median

from fontanel.core.reading.model import LineBox, ReadingBuilder
from fontanel.core.reading.paged.footnotes import note_text, take_footnotes
from fontanel.core.reading.paged.lines import HYPHENS, WRAPPED, Line, PageLines, join_words
from fontanel.core.reading.paged.ruled_tables import RuledTable, ruled_tables

#: Page number from 1 -> the titles that the outline places there, with their levels from 1.
Outline = dict[int, list[tuple[str, int]]]

_ITEM = re.compile(r"^(?:[•◦▪●○■–*·-]|\(?\d{1,3}[.)]|\(?[a-z][.)])(?:\s+\S|$)")
_BULLET = re.compile(r"^[•◦▪●○■–*·-]\s*")
_NUMBERED = re.compile(
    r"^(?:(?:chapter|part|appendix|section)\s+)?(?:\d{1,3}|[A-Z])(?:\.\d{1,3}){0,5}\.?\s+\S", re.I
)
_LEADER = re.compile(r"(?:\.\s?){4,}\s*(?:\d+|[ivxlc]+)\s*$")
_PROMPT = re.compile(r"(?:[$#%>]|>>>) \S")
_NUMBER_BEFORE = re.compile(r"^(?:chapter|part|appendix|section)?[\divx]*[a-z]?(?=\d)\d*|^\d+")
_KEY = re.compile(r"[\W_]+")
#: The same for ASCII, of which a translation as bytes is many times faster.
_NO_KEY = bytes(code for code in range(128) if not chr(code).isalnum())
_LOWER = bytes(range(256)).lower()
_SENTENCE_END = re.compile(r"[.!?:;][\"'’”)\]]?$")


@dataclass(slots=True)
class _Style:
    """What the document's text looks like: against it headings stand out."""

    body: float
    bold_share: float
    levels: dict[tuple[float, bool], int]
    outlined: bool


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
    headings = _outline_lines(pages, outline)
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
        self._style = _style(pages, headings)
        self._sizes = {page.number: (page.width, page.height) for page in pages}
        #: The block that further lines may continue.
        self._group: _Group | None = None

    def add_page(self, page: PageLines) -> None:
        """Add the lines of a page."""
        notes = take_footnotes(page, self._style.body)
        tables = ruled_tables(page)
        code = _code_lines(page.lines)
        first_lines = {id(table.lines[0]): table for table in tables}
        in_tables = {id(line) for table in tables for line in table.lines}
        for line in page.lines:
            if table := first_lines.get(id(line)):
                self._add_table(table, page.number)
            elif id(line) not in in_tables:
                self._add_line(line, code.get(id(line)))
        if notes and self._group is not None:
            self._group.notes += notes
        elif notes:
            _add_notes(self._builder, notes, self._sizes)

    def close(self) -> None:
        """End the block that is open."""
        _close(self._builder, self._group, self._style, self._sizes)
        self._group = None

    def _add_table(self, table: RuledTable, page: int) -> None:
        self.close()
        boxes = _boxes(table.lines, None, self._sizes)
        self._builder.table(table.rows, table.header_rows, boxes, page=page)

    def _add_line(self, line: Line, begins_code: bool | None) -> None:
        """Add a line; `begins_code` is None for one that is not code."""
        level = self._headings.get(id(line)) or _heading_level(line, self._style)
        if level:
            begins_code = None
        in_code = self._group is not None and self._group.kind == "code"
        if begins_code is False and in_code:
            self._extend(line)
        elif begins_code is not None:
            self._begin(_Group("code", [line]))
        elif in_code or self._group is None:
            self._begin(_Group("heading" if level else _kind(line), [line], level))
        elif _continues(self._group, line, level, self._style):
            self._extend(line)
        else:
            self._begin(_Group("heading" if level else _kind(line), [line], level))

    def _begin(self, group: _Group) -> None:
        self.close()
        self._group = group

    def _extend(self, line: Line) -> None:
        assert self._group is not None
        self._group.lines.append(line)


# What is a heading


def _outline_lines(pages: list[PageLines], outline: Outline) -> dict[int, int]:
    """The lines (by identity) that are titles of the outline, with their levels. A title may run over lines."""
    results: dict[int, int] = {}
    for page in pages:
        requested = [(_key(title), level) for title, level in outline.get(page.number, [])]
        longest = 2 * max((len(title) for title, _ in requested), default=0) + 40
        keys = (
            [_key(line.text) if len(line.text) < longest else "" for line in page.lines]
            if requested
            else []
        )
        position = 0
        for title, level in requested:
            if not title:
                continue
            for start in [*range(position, len(page.lines)), *range(position)]:
                taken = _title_lines(keys, start, title)
                if taken:
                    for line in page.lines[start : start + taken]:
                        results.setdefault(id(line), level)
                    position = start + taken
                    break
    return results


def _title_lines(keys: list[str], start: int, title: str) -> int:
    """How many lines from `start` on make up a title, whatever number stands before it; 0 when they do not."""
    text, bare = "", _bare(title)
    for count in range(1, 4):
        if start + count > len(keys) or not keys[start + count - 1]:
            return 0
        text += keys[start + count - 1]
        if text.endswith(bare) and (text == title or _bare(text) == bare):
            return count
        if len(text) > len(title) + 12:
            return 0
    return 0


def _key(text: str) -> str:
    if text.isascii():
        return text.encode().translate(_LOWER, _NO_KEY).decode()
    return _KEY.sub("", text).lower()


@lru_cache(maxsize=1024)
def _bare(key: str) -> str:
    return _NUMBER_BEFORE.sub("", key) or key


def _style(pages: list[PageLines], headings: dict[int, int]) -> _Style:
    weights: Counter[float] = Counter()
    bold = total = 0
    by_style: dict[tuple[float, bool], list[int]] = {}
    for page in pages:
        for line in page.lines:
            length = len(line.text)
            weights[line.size] += length
            total += length
            bold += length if line.bold else 0
            if id(line) in headings:
                by_style.setdefault((line.size, line.bold), []).append(headings[id(line)])
    body = weights.most_common(1)[0][0] if weights else 10.0
    share = bold / max(total, 1)
    if len(by_style) and sum(map(len, by_style.values())) >= 3:
        # The outline tells which styles are headings; text of the body's own style never is.
        levels = {
            style: round(median(result))
            for style, result in by_style.items()
            if style != (body, False) and len(result) > 1
        }
        deepest = max(levels.values(), default=1)
        smallest = min((size for size, _ in levels), default=body)
        for page in pages:
            for line in page.lines:
                style = (line.size, line.bold)
                if style not in levels and line.size >= body * 1.12 and len(line.text) < 160:
                    larger = [level for (size, _), level in levels.items() if size <= line.size]
                    levels[style] = min(larger, default=1) if line.size >= smallest else deepest + 1
        return _Style(body, share, levels, True)
    sizes = sorted(
        {
            line.size
            for page in pages
            for line in page.lines
            if line.size >= body * 1.12 and len(line.text) < 200
        },
        reverse=True,
    )
    return _Style(
        body,
        share,
        {
            (size, weight): min(rank, 5)
            for rank, size in enumerate(sizes, 1)
            for weight in (True, False)
        },
        False,
    )


def _heading_level(line: Line, style: _Style) -> int:
    """The rank of a line that looks like a heading, else 0."""
    text = line.text
    level = style.levels.get((line.size, line.bold), 0)
    if not level and (style.outlined or not line.bold):
        return 0
    if len(text) > 160 or len(line.cells) > 2 or text.upper() == text.lower():
        return 0
    if line.confidence is not None and line.size < style.body * 1.35:
        return 0  # sizes guessed from a picture vary
    if level and (line.size >= style.body * 1.12 or line.bold):
        return (
            level
            if style.outlined or line.size >= style.body * 1.12
            else _numbered_level(text, level)
        )
    if style.outlined or not line.bold or style.bold_share > 0.3 or line.size < style.body * 0.95:
        return 0
    if len(text) >= 90 or text.rstrip().endswith((".", ",", ";", ":")) or len(line.cells) > 1:
        return 0
    return _numbered_level(text, len({size for size, _ in style.levels}) + 1)


def _numbered_level(text: str, level: int) -> int:
    """A level that is at least as deep as the heading's number has parts."""
    numbered = _NUMBERED.match(text)
    return (
        max(level, 1 + numbered.group(0).split()[0].rstrip(".").count(".")) if numbered else level
    )


# What is code


def _code_lines(lines: list[Line]) -> dict[int, bool]:
    """The lines of code (by identity), and whether each begins a piece of it: in letters of one width, two or more right below
    each other, or one after a prompt."""
    results: dict[int, bool] = {}
    run: list[Line] = []

    def end() -> None:
        if len(run) > 1 or (run and _PROMPT.match(run[0].text)):
            results.update((id(line), number == 0) for number, line in enumerate(run))
        run.clear()

    for line in lines:
        if not line.fixed or not (run and 0 < run[-1].baseline - line.baseline < 1.9 * line.size):
            end()
        if line.fixed:
            run.append(line)
    end()
    return results


def _code_text(lines: list[Line]) -> tuple[str, list[tuple[int, int]]]:
    """Lines of code with their blanks, as their places tell, and the characters of each."""
    edge = min(line.left for line in lines)
    widths = [
        (cell.right - cell.left) / len(cell.text)
        for line in lines
        for cell in line.cells
        if len(cell.text) > 1
    ]
    width = median(widths) if widths else lines[0].size * 0.6
    text, spans = "", []
    wrapped = False
    for line in lines:
        texts = ""
        for cell in line.cells:
            column = round((cell.left - edge) / max(width, 0.1))
            texts = (
                texts.ljust(min(column, 200) if column > len(texts) else len(texts) + bool(texts))
                + cell.text
            )
        texts += "-" if line.broken else ""
        if wrapped:
            # The rest of a line that was too long for the page.
            texts = texts.lstrip()
            text += "" if text[-1:] in HYPHENS + "/" else " "
        else:
            text += "\n" if text else ""
        wrapped = WRAPPED.search(texts) is not None
        texts = WRAPPED.sub("", texts)
        spans.append((len(text), len(text) + len(texts)))
        text += texts
    return text, spans


# What belongs together


def _kind(line: Line) -> str:
    text = line.text
    # Most lines begin with a word, which no item does.
    if not text[:2].isalpha() and _ITEM.match(text):
        return "list"
    return "table" if len(line.cells) > 1 else "paragraph"


def _continues(group: _Group, line: Line, level: int, style: _Style) -> bool:
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
        and not _NUMBERED.match(line.text)
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
        return _runs_on(last, line) and abs(line.size - last.size) < 0.6
    if not step.near or abs(line.size - last.size) >= (0.3 * last.size if step.guessed else 0.6):
        return False
    pitch = group.lines[-2].baseline - last.baseline if len(group.lines) > 1 else step.gap
    if step.gap > pitch * 1.25 and step.gap > line.size * 1.3:
        return False
    if line.left - last.left <= line.size * 0.8 or len(group.lines) == 1:
        return True
    # An indented line after one that ends early begins a paragraph.
    short = last.right < max(item.right for item in group.lines) - 3 * line.size
    return not (short or _SENTENCE_END.search(last.text))


def _runs_on(last: Line, line: Line) -> bool:
    """A paragraph runs over the edge of a page or column when its last line ends no sentence."""
    return last.broken or (not _SENTENCE_END.search(last.text.rstrip()) and line.text[:1].islower())


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
    style: _Style,
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
        text, spans = _code_text(group.lines)
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
    """Lines as one run of text, with the characters of each; words that a line's end broke become whole again."""
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
    """Boxes of lines in shares of their pages. Without spans (a table's rows move) each box stands for the whole block."""
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
    """Two rows or more whose cells begin at like places; else the cells are just words set apart."""
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
