"""PDF with a text layer, through PDFium: lines, paragraphs, headings, lists and plain tables, page by page.

Running headers and footers are found by their repetition, headings by size and weight against the body text.
"""

from __future__ import annotations

import ctypes
import re
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from itertools import groupby

import pypdfium2 as pdfium
import pypdfium2.raw as pdfium_raw

from fontanel.core.reading.model import ReadingBuilder, ReadingFailed, collapse

_MOST_PAGES = 20_000
_HYPHENS = "-\u00ad\u2010\u0002\ufffe"
_ITEM = re.compile(r"^(?:[•◦▪●○■–*·\uf0b7-]|\(?\d{1,3}[.)]|\(?[a-z][.)])\s+\S")
_BULLET = re.compile(r"^[•◦▪●○■–*·\uf0b7-]\s+")
_NUMBERED = re.compile(r"^\d{1,2}(?:\.\d{1,2}){0,4}\.?\s+\S")
_DIGITS = re.compile(r"\d+")
_PAGE_NUMBER = re.compile(r"^(?:page |- ?)?\d{1,5}(?: ?-| (?:of|/) \d{1,5})?$", re.I)
_LEADER = re.compile(r"(?:\.\s?){4,}\s*\d+\s*$")


@dataclass(slots=True)
class _Line:
    """A line of text; coordinates in points, y growing upwards; `cells` are its runs apart by wide gaps.

    `top` and `bottom` are the baselines of its first and last character: PDFium makes one line of two that a hyphen joins.
    """

    page: int
    text: str
    cells: list[tuple[float, str]]
    left: float
    right: float
    bottom: float
    top: float
    size: float
    bold: bool
    page_height: float


def read_pdf(data: bytes, progress: Callable[[int, int], None]) -> ReadingBuilder:
    """Read a PDF. Raises ReadingFailed: encrypted, damaged, no_text or too_large."""
    try:
        document = pdfium.PdfDocument(data)
    except pdfium.PdfiumError as error:
        if "password" in str(error).lower():
            raise ReadingFailed(
                "encrypted", "The file is encrypted. Add a copy that opens without a password."
            ) from error
        raise ReadingFailed(
            "damaged", "The PDF is damaged and cannot be opened. Add it again from a good copy."
        ) from error
    try:
        return _read_document(document, progress)
    finally:
        document.close()


def _read_document(document: pdfium.PdfDocument, progress: Callable[[int, int], None]) -> ReadingBuilder:
    count = len(document)
    if count > _MOST_PAGES:
        raise ReadingFailed(
            "too_large", f"The PDF has {count:,} pages; at most {_MOST_PAGES:,} are read. Add it in parts."
        )
    builder = ReadingBuilder(pages=count)
    builder.title = _document_title(document)
    pages: list[list[_Line]] = []
    empty: list[int] = []
    for index in range(count):
        try:
            lines = _page_lines(document, index)
        except pdfium.PdfiumError:
            builder.warnings.append(f"Page {index + 1} is damaged and was left out")
            lines = []
        else:
            if not lines:
                empty.append(index + 1)
        pages.append(lines)
        progress(index + 1, count)
    if count and len(empty) == count:
        raise ReadingFailed(
            "no_text", "None of the pages has a text layer. Add a copy of the scan with its text recognised."
        )
    if empty:
        shown = ", ".join(map(str, empty[:20])) + (" ..." if len(empty) > 20 else "")
        builder.warnings.append(f"No text on page {shown}" if len(empty) == 1 else f"No text on pages {shown}")
    _drop_running_lines(pages)
    lines = [line for page in pages for line in page if not _LEADER.search(line.text)]
    _add_blocks(builder, lines)
    return builder


def _document_title(document: pdfium.PdfDocument) -> str:
    title = collapse(document.get_metadata_value("Title") or "")
    # Programs write a file's name or their own placeholder where a title was never given.
    return "" if re.search(r"\.\w{2,4}$|^untitled|^microsoft word", title, re.I) else title


def _page_lines(document: pdfium.PdfDocument, index: int) -> list[_Line]:
    page = document[index]
    text_page = page.get_textpage()
    try:
        raw, height = text_page.raw, page.get_height()
        count = pdfium_raw.FPDFText_CountChars(raw)
        chars = [pdfium_raw.FPDFText_GetUnicode(raw, i) for i in range(count)]
        lines: list[_Line] = []
        start = 0
        for i, code in enumerate([*chars, 10]):
            if code in (10, 13):
                if i > start and (line := _line(raw, chars, start, i, index + 1, height)):
                    lines.append(line)
                start = i + 1
        return _joined(lines)
    finally:
        text_page.close()
        page.close()


def _box(raw: object, index: int) -> tuple[float, float, float, float]:
    left, right, bottom, top = (ctypes.c_double() for _ in range(4))
    pdfium_raw.FPDFText_GetCharBox(raw, index, left, right, bottom, top)
    return left.value, right.value, bottom.value, top.value


def _baseline(raw: object, index: int) -> float:
    x, y = ctypes.c_double(), ctypes.c_double()
    pdfium_raw.FPDFText_GetCharOrigin(raw, index, x, y)
    return y.value


def _line(raw: object, chars: list[int], start: int, end: int, page: int, height: float) -> _Line | None:
    inked = [i for i in range(start, end) if chars[i] > 32 and chars[i] != 0xA0]
    if not inked:
        return None
    first, last = inked[0], inked[-1]
    left, _, box_bottom, box_top = _box(raw, first)
    middle = inked[len(inked) // 2]
    size = pdfium_raw.FPDFText_GetFontSize(raw, middle)
    if size <= 1.5:
        # The text matrix scales a unit font; the box tells the size then.
        size = (box_top - box_bottom) * 1.3
    bold = pdfium_raw.FPDFText_GetFontWeight(raw, middle) >= 600 or "bold" in _font_name(raw, middle).lower()
    cells: list[tuple[float, str]] = []
    run, run_left, previous = first, left, first
    for i in inked[1:]:
        if i - previous > 1:  # a blank stands between: is it wide?
            right_before, left_after = _box(raw, previous)[1], _box(raw, i)[0]
            if left_after - right_before > size * 1.1:
                cells.append((run_left, _string(chars, run, previous + 1)))
                run, run_left = i, left_after
        previous = i
    cells.append((run_left, _string(chars, run, last + 1)))
    return _Line(
        page=page,
        text=_string(chars, first, last + 1),
        cells=cells,
        left=left,
        right=_box(raw, last)[1],
        bottom=_baseline(raw, last),
        top=_baseline(raw, first),
        size=round(size * 2) / 2,
        bold=bold,
        page_height=height,
    )


def _string(chars: list[int], start: int, end: int) -> str:
    """The characters as text; code 2 is where PDFium joined a word that a hyphen broke."""
    return "".join(
        chr(code) if 2 < code < 0x110000 and not 0xD800 <= code < 0xE000 else "" if code == 2 else " "
        for code in chars[start:end]
    )


def _font_name(raw: object, index: int) -> str:
    buffer = ctypes.create_string_buffer(96)
    flags = ctypes.c_int()
    length = pdfium_raw.FPDFText_GetFontInfo(raw, index, buffer, 96, flags)
    return buffer.raw[: max(length - 1, 0)].decode("utf-8", "ignore") if length <= 96 else ""


def _joined(lines: list[_Line]) -> list[_Line]:
    """Pieces that stand on one baseline, left to right, are one line: the cells of a table's row, a number and its title.

    A table's cells of several lines come cell by cell, so that the rest of a row may come a few lines late.
    """
    out: list[_Line] = []
    for line in lines:
        for earlier in reversed(out[-6:]):
            if abs(earlier.bottom - line.top) < 0.35 * line.size and line.left >= earlier.right - 1:
                earlier.cells += line.cells
                earlier.text += " " + line.text
                earlier.right = line.right
                break
        else:
            out.append(line)
    return out


def _drop_running_lines(pages: list[list[_Line]]) -> None:
    """Remove lines near the top or bottom edge whose text, digits aside, comes back on many pages."""

    def key(line: _Line) -> tuple[str, bool]:
        return _DIGITS.sub("#", line.text.lower()), line.bottom > line.page_height / 2

    def at_edge(line: _Line) -> bool:
        return line.bottom > line.page_height * 0.9 or line.bottom < line.page_height * 0.1

    seen: Counter[tuple[str, bool]] = Counter()
    for page in pages:
        seen.update({key(line) for line in page if at_edge(line)})
    needed = max(min(3, len(pages)), len(pages) // 4)
    if len(pages) < 2:
        return
    for page in pages:
        page[:] = [
            line
            for line in page
            if not at_edge(line) or (seen[key(line)] < needed and not _PAGE_NUMBER.match(line.text.strip()))
        ]


def _add_blocks(builder: ReadingBuilder, lines: list[_Line]) -> None:
    weights: Counter[float] = Counter()
    for line in lines:
        weights[line.size] += len(line.text)
    body = weights.most_common(1)[0][0] if weights else 10.0
    bold_share = sum(len(line.text) for line in lines if line.bold) / max(1, sum(len(line.text) for line in lines))
    levels = _heading_levels(lines, body)

    group: list[_Line] = []
    for line in lines:
        if group and not _continues(group, line, body, bold_share):
            _add_group(builder, group, body, bold_share, levels)
            group = []
        group.append(line)
    if group:
        _add_group(builder, group, body, bold_share, levels)


def _heading_levels(lines: list[_Line], body: float) -> dict[float, int]:
    sizes = sorted({line.size for line in lines if line.size >= body * 1.12 and len(line.text) < 200}, reverse=True)
    return {size: min(rank, 5) for rank, size in enumerate(sizes, start=1)}


def _is_heading(line: _Line, body: float, bold_share: float) -> bool:
    if not any(c.isalpha() for c in line.text) or len(line.cells) > 2 or len(line.text) > 160:
        return False
    if line.size >= body * 1.12:
        return True
    short = len(line.text) < 90 and not line.text.rstrip().endswith((".", ",", ";", ":"))
    return line.bold and bold_share < 0.3 and short and line.size >= body * 0.95


def _is_row(line: _Line) -> bool:
    return len(line.cells) >= 2 and not _ITEM.match(line.text)


def _continues(group: list[_Line], line: _Line, body: float, bold_share: float) -> bool:
    last = group[-1]
    gap = last.bottom - line.top
    near = line.page == last.page and 0 < gap < max(line.size, last.size) * 1.75
    heading, last_heading = _is_heading(line, body, bold_share), _is_heading(last, body, bold_share)
    if _is_row(line) or _is_row(group[0]):
        # Rows of one table follow each other with some air; a table's ruled rows stand wider apart than text.
        wide = line.page == last.page and 0 < gap < line.size * 3.2
        if near and not _is_row(line) and len(group) >= 2:
            # The second line of a cell begins where the cell began.
            return any(abs(line.left - left) < 3 for row in group if _is_row(row) for left, _ in row.cells[1:])
        return (
            wide
            and _is_row(line)
            and (_is_row(last) or len(group) > 2)
            and not (heading and not last_heading and not last.bold)
        )
    if heading or last_heading:
        return (
            heading
            and last_heading
            and near
            and line.size == last.size
            and line.bold == last.bold
            and not _NUMBERED.match(line.text)
        )
    if _ITEM.match(line.text):
        return near and bool(_ITEM.match(group[0].text))
    if line.page == last.page + 1:
        # A paragraph runs over the page's edge when its last line is full and ends no sentence.
        return abs(line.size - last.size) < 0.6 and last.text.rstrip()[-1:] not in ".!?:;" and line.text[:1].islower()
    return near and abs(line.size - last.size) < 0.6


def _add_group(
    builder: ReadingBuilder, group: list[_Line], body: float, bold_share: float, levels: dict[float, int]
) -> None:
    first = group[0]
    if _is_heading(first, body, bold_share) and not (len(group) > 1 and _is_row(group[1])):
        text = " ".join(line.text for line in group)
        numbered = _NUMBERED.match(text)
        level = levels.get(first.size, len(levels) + 1)
        if numbered and first.size not in levels:
            level = max(level, 1 + numbered.group(0).split()[0].rstrip(".").count("."))
        builder.heading(text, level, page=first.page)
    elif _is_row(first) and len(group) >= 2:
        _add_table(builder, group)
    elif _ITEM.match(first.text):
        items: list[str] = []
        for line in group:
            if _ITEM.match(line.text):
                items.append(_BULLET.sub("- ", line.text))
            else:
                items[-1] = _append(items[-1], line.text)
        builder.list(items, page=first.page)
    else:
        text = ""
        for line in group:
            text = _append(text, line.text)
        builder.paragraph(text, page=first.page)


def _append(text: str, line: str) -> str:
    """Join a line to a paragraph; a word that was broken at the line's end becomes whole again."""
    line = line.strip()
    if not text:
        return line
    if text[-1] in _HYPHENS and len(text) > 1 and text[-2].isalpha() and line[:1].islower():
        return text[:-1] + line
    return f"{text} {line}"


def _add_table(builder: ReadingBuilder, group: list[_Line]) -> None:
    """Rows whose cells begin at like places become a table; cells that share no column stay in reading order."""
    starts = sorted(left for line in group for left, _ in line.cells)
    columns = [next(near) for _, near in groupby(_clustered(starts), key=lambda pair: pair[1])]
    places = [place for place, _ in columns]
    rows: list[list[str]] = []
    previous: _Line | None = None
    for line in group:
        row = [""] * len(places)
        for left, text in line.cells:
            column = min(range(len(places)), key=lambda c: abs(places[c] - left))
            row[column] = f"{row[column]} {text}".strip()
        if previous and not row[0] and previous.bottom - line.top < line.size * 1.65:
            rows[-1] = [f"{above} {below}".strip() for above, below in zip(rows[-1], row, strict=True)]
        else:
            rows.append(row)
        previous = line
    builder.table(rows, 1 if (group[0].bold and not group[-1].bold) or len(group) > 2 else 0, page=group[0].page)


def _clustered(values: list[float]) -> list[tuple[float, int]]:
    out: list[tuple[float, int]] = []
    for value in values:
        if not out:
            out.append((value, 0))
        else:
            last, cluster = out[-1]
            out.append((value, cluster) if value - last < 12 else (value, cluster + 1))
    return out
