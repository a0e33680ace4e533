"""Random pages: reading loses no word, and keeps the positions."""

from __future__ import annotations

import io
import re
from collections import Counter

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from reportlab.lib.pagesizes import A4
from reportlab.pdfgen.canvas import Canvas

from fontanel.core.reading import read
from fontanel.core.reading.model import CELL_SEPARATOR
from fontanel.core.reading.paged.lines import Cell, Line, PageLines, in_columns, joined
from fontanel.core.reading.paged.ruled_tables import ruled_tables

WORDS = [
    "berth",
    "tide",
    "quay",
    "lock",
    "gale",
    "pilot",
    "crane",
    "buoy",
    "mooring",
    "draught",
    "Skerrow",
    "knots",
    "7.5",
    "14",
]
words = st.lists(st.sampled_from(WORDS), min_size=1, max_size=8)
fonts = st.sampled_from(["Helvetica", "Helvetica-Bold", "Times-Roman", "Courier", "Courier-Bold"])


def line(cells: list[tuple[float, str]], baseline: float, size: float = 10.0) -> Line:
    """A line of cells, each at its place, five points a letter wide."""
    return Line(
        1,
        [Cell(left, left + 5 * len(text), text) for left, text in cells],
        baseline,
        baseline - 2,
        baseline + 8,
        size,
    )


def counted(texts: list[str]) -> Counter[str]:
    return Counter(word for text in texts for word in re.findall(r"[\w.]+", text))


@st.composite
def sheets(draw: st.DrawFn) -> list[tuple[float, float, str, str, float]]:
    """Lines on a page as (left, baseline, text, font, size), some side by side."""
    results = []
    y = 780.0
    for _ in range(draw(st.integers(1, 25))):
        size = draw(st.sampled_from([8.0, 10.0, 11.0, 16.0]))
        y -= size * draw(st.floats(1.2, 3.0))
        if y < 90:
            break
        left = draw(st.floats(50, 120))
        for _ in range(draw(st.sampled_from([1, 1, 1, 2, 3]))):
            text = " ".join(draw(words))
            width = 0.75 * size * len(text)
            if left + width > 560:
                break
            results.append((left, y, text, draw(fonts), size))
            left += width + draw(st.floats(30, 90))
    return results


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(sheets())
def test_no_word_of_a_page_is_lost_or_said_twice(
    sheet: list[tuple[float, float, str, str, float]],
) -> None:
    if not sheet:
        return
    out = io.BytesIO()
    page = Canvas(out, pagesize=A4)
    for left, y, text, font, size in sheet:
        page.setFont(font, size)
        page.drawString(left, y, text)
    page.save()
    reading = read(out.getvalue(), "a.pdf")
    # "14." may begin a list's item, whose mark stays with it.
    assert counted([reading.text]) == counted([text for _, _, text, _, _ in sheet])
    for place in reading.places:
        assert 0 <= place.left <= place.right <= 1
        assert 0 <= place.top <= place.bottom <= 1
        assert 0 <= place.start <= place.end <= len(reading.text)
    for before, after in zip(reading.blocks, reading.blocks[1:], strict=False):
        assert before.end <= after.start


@given(st.lists(st.tuples(words, st.integers(0, 3)), min_size=1, max_size=20))
def test_joining_pieces_of_lines_keeps_every_word_once(pieces: list[tuple[list[str], int]]) -> None:
    lines = []
    left, y = 60.0, 700.0
    for parts, step in pieces:
        text = " ".join(parts)
        if step or left > 500:
            left, y = 60.0, y - 4.0 * step - 8
        lines.append(line([(left, text)], y))
        left += 5 * len(text) + 3
    result = joined(lines)
    assert counted([item.text for item in result]) == counted(
        [" ".join(parts) for parts, _ in pieces]
    )
    for item in result:
        assert item.left == item.cells[0].left
        assert item.right == item.cells[-1].right
        assert item.text == " ".join(cell.text for cell in item.cells)


@given(st.lists(st.tuples(words, words), min_size=8, max_size=25), st.booleans())
def test_putting_columns_in_order_keeps_every_word_once(
    rows: list[tuple[list[str], list[str]]], title: bool
) -> None:
    lines = [
        line([(60, " ".join(left * 4)[:44]), (320, " ".join(right * 4)[:44])], 700 - 12 * number)
        for number, (left, right) in enumerate(rows)
    ]
    if title:
        lines.insert(
            0, line([(60, "A title that runs across the whole page and both of its columns")], 730)
        )
    page = PageLines(1, 600, 800, lines)
    before = counted([item.text for item in lines])
    in_columns(page)
    assert counted([item.text for item in page.lines]) == before
    if title:
        assert page.lines[0].text.startswith("A title")


@given(
    st.lists(
        st.lists(st.sampled_from(["", *WORDS]), min_size=3, max_size=3), min_size=2, max_size=8
    ),
    st.floats(40, 200),
    st.floats(12, 40),
)
def test_a_ruled_table_has_each_word_in_its_own_cell(
    rows: list[list[str]], left: float, height: float
) -> None:
    page = PageLines(1, 600, 800)
    top = 700.0
    xs = [left + 110 * column for column in range(4)]
    for number in range(len(rows) + 1):
        y = top - height * number
        page.rules.append((xs[0], y - 0.3, xs[-1], y + 0.3))
    page.rules += [(x - 0.3, top - height * len(rows), x + 0.3, top) for x in xs]
    for number, row in enumerate(rows):
        cells = [(xs[column] + 4, text) for column, text in enumerate(row) if text]
        if cells:
            page.lines.append(line(cells, top - height * (number + 0.5) - 3))
    tables = ruled_tables(page)
    full = [row for row in rows if any(row)]
    if len(full) < 2 or sum(sum(map(bool, row)) > 1 for row in full) < 2:
        return  # not a table
    assert len(tables) == 1
    columns = [column for column in range(3) if any(row[column] for row in full)]
    assert tables[0].rows == [[row[column] for column in columns] for row in full]


@settings(max_examples=40, deadline=None)
@given(st.lists(st.lists(st.sampled_from(WORDS), min_size=3, max_size=3), min_size=2, max_size=12))
def test_a_table_drawn_on_a_page_is_read_cell_by_cell(rows: list[list[str]]) -> None:
    out = io.BytesIO()
    page = Canvas(out, pagesize=A4)
    page.setFont("Helvetica", 10)
    header = ["Berth", "Depth", "Remark"]
    page.grid([60, 180, 300, 420], [700 - 18 * n for n in range(len(rows) + 2)])
    for number, row in enumerate([header, *rows]):
        for column, text in enumerate(row):
            page.drawString(64 + 120 * column, 687 - 18 * number, text)
    page.save()
    reading = read(out.getvalue(), "a.pdf")
    (table,) = [block for block in reading.blocks if block.kind == "table"]
    texts = [row.split(CELL_SEPARATOR) for row in reading.text[table.start : table.end].split("\n")]
    assert texts == [header, *rows]
    assert table.header_rows == 1
