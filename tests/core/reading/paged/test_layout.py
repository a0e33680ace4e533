"""From lines on pages to blocks.

Columns, tables, headings, running lines, hyphens.
"""

from __future__ import annotations

import io
from dataclasses import asdict

import pytest
from hypothesis import given
from hypothesis import strategies as st
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import getSampleStyleSheet
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Paragraph, SimpleDocTemplate, Table, TableStyle

from fontanel.core.describing.extractive import describe, suggested_title
from fontanel.core.embedding.encoder import estimate_tokens
from fontanel.core.passages.splitting import split
from fontanel.core.reading import Reading, ReadingBuilder, read, report_of
from fontanel.core.reading.model import CELL_SEPARATOR
from fontanel.core.reading.paged.drawing import draw_page
from fontanel.facts import SplitSettings
from tests.core import samples

WORDS = [
    "harbour",
    "pilot",
    "berth",
    "crane",
    "storm",
    "buoy",
    "lock",
    "tide",
    "mooring",
    "ferry",
    "dues",
    "quay",
]


def prose(seed: int, count: int) -> str:
    return " ".join(WORDS[(seed * 7 + n * n) % len(WORDS)] for n in range(count))


def canvas(draw: object) -> bytes:
    out = io.BytesIO()
    page = Canvas(out, pagesize=A4)
    draw(page)  # type: ignore[operator]
    page.save()
    return out.getvalue()


def texts(reading: Reading, kind: str) -> list[str]:
    return [reading.text[block.start : block.end] for block in reading.blocks if block.kind == kind]


class TestColumns:
    def two_columns(self, page: Canvas) -> None:
        page.setFont("Times-Roman", 10)
        for row in range(30):
            # Line by line across both columns: the order in which some programs write.
            page.drawString(60, 760 - row * 13, f"left{row} {prose(row, 5)}")
            page.drawString(320, 760 - row * 13, f"right{row} {prose(row + 50, 5)}")

    def test_the_left_column_is_read_before_the_right(self) -> None:
        words = read(canvas(self.two_columns), "a.pdf").text.split()
        order = [
            word for word in words if word.startswith(("left", "right")) and word[-1].isdigit()
        ]
        assert order == [f"left{n}" for n in range(30)] + [f"right{n}" for n in range(30)]

    def test_a_table_of_two_columns_stays_a_table(self) -> None:
        def draw(page: Canvas) -> None:
            for row in range(12):
                page.drawString(60, 760 - row * 15, f"Berth {row}")
                page.drawString(200, 760 - row * 15, f"{row + 3} m")

        reading = read(canvas(draw), "a.pdf")
        assert texts(reading, "table")[0].split("\n")[3] == f"Berth 3{CELL_SEPARATOR}6 m"


class TestParagraphsThatGoOn:
    """A paragraph goes on over page breaks and tables until its sentence ends."""

    FIRST = (
        "Both leading lights must be seen before the beacon is passed;",
        "if either is lost, the ship turns back at once and makes for the",
    )

    def over_a_break(self, first: tuple[str, ...], second: tuple[str, ...]) -> list[str]:
        def draw(page: Canvas) -> None:
            for lines, top in ((first, 100), (second, 800)):
                page.setFont("Helvetica", 11)
                for number, line in enumerate(lines):
                    page.drawString(70, top - 14 * number, line)
                page.showPage()

        return texts(read(canvas(draw), "x.pdf"), "paragraph")

    def test_before_a_name(self) -> None:
        second = ("Hollow Rock buoy and waits there for the word of the duty", "harbour master.")
        (whole,) = self.over_a_break(self.FIRST, second)
        assert whole == " ".join((*self.FIRST, *second))

    def test_but_not_after_the_end_of_a_sentence(self) -> None:
        first = (self.FIRST[0], "if either is lost, the ship turns back to the outer buoy.")
        second = ("Hollow Rock is the buoy that is meant by the harbour rules and", "others.")
        assert len(self.over_a_break(first, second)) == 2

    def test_nor_after_a_short_line(self) -> None:
        first = (self.FIRST[0], "Signed for the port")
        second = ("Hollow Rock is the buoy that is meant by the harbour rules and", "others.")
        assert len(self.over_a_break(first, second)) == 2

    def test_around_a_table(self) -> None:
        second = ("Hollow Rock buoy and waits there for the word of the duty", "harbour master.")

        def draw(page: Canvas) -> None:
            page.setFont("Helvetica", 11)
            for number, line in enumerate(self.FIRST):
                page.drawString(70, 700 - 14 * number, line)
            table = Table([["Berth", "Depth"], ["4", "6.8 m"], ["5", "4.2 m"]])
            table.setStyle(TableStyle([("GRID", (0, 0), (-1, -1), 1, "black")]))
            table.wrapOn(page, 400, 200)
            table.drawOn(page, 70, 590)
            page.setFont("Helvetica", 11)
            for number, line in enumerate(second):
                page.drawString(70, 560 - 14 * number, line)
            page.showPage()

        reading = read(canvas(draw), "x.pdf")
        assert texts(reading, "paragraph") == [" ".join((*self.FIRST, *second))]
        assert [block.kind for block in reading.blocks] == ["paragraph", "table"]


class TestTables:
    def ruled(self, rows: list[list[str]]) -> bytes:
        out = io.BytesIO()
        table = Table(rows)
        table.setStyle(TableStyle([("GRID", (0, 0), (-1, -1), 0.5, "black")]))
        style = getSampleStyleSheet()
        SimpleDocTemplate(out).build(
            [Paragraph("Depths", style["Heading1"]), table, Paragraph("After it.", style["Normal"])]
        )
        return out.getvalue()

    def test_a_ruled_table_keeps_every_cell_in_its_place(self) -> None:
        rows = [
            ["Berth", "Depth", "Note"],
            ["North", "7 m", ""],
            ["", "4 m", "mud"],
            ["East", "", "rock and sand"],
        ]
        reading = read(self.ruled(rows), "a.pdf")
        assert [
            line.split(CELL_SEPARATOR) for line in texts(reading, "table")[0].split("\n")
        ] == rows
        assert texts(reading, "paragraph") == ["After it."]

    @given(st.integers(2, 6), st.integers(2, 5), st.integers(0, 1000))
    def test_any_ruled_grid_comes_back_cell_by_cell(
        self, height: int, width: int, seed: int
    ) -> None:
        rows = [
            [f"{WORDS[(seed + r * c) % 12]} {r}{c}" for c in range(width)] for r in range(height)
        ]
        reading = read(self.ruled(rows), "a.pdf")
        assert [
            line.split(CELL_SEPARATOR) for line in texts(reading, "table")[0].split("\n")
        ] == rows


class TestCode:
    LINES = (
        "def moor(ship):",
        "    for line in ship.lines:",
        "        line.secure()",
        "    return True",
    )

    def page(self, page: Canvas) -> None:
        page.setFont("Helvetica", 11)
        page.drawString(
            72, 780, "The keeper's program makes a ship fast with all of its lines, and says so:"
        )
        page.setFont("Courier", 10)
        for number, line in enumerate(self.LINES):
            # As typesetters do: leading blanks, and wide ones within, may be moves of the pen.
            page.drawString(
                72 + 6 * (len(line) - len(line.lstrip())), 755 - 12 * number, line.lstrip()
            )
        page.drawString(72, 690, "$ harbour --status")
        page.setFont("Helvetica", 11)
        page.drawString(
            72, 660, "After this the gates are opened, and the ship goes on her way to sea."
        )
        page.setFont("Courier", 11)
        page.drawString(72, 630, "harbour.conf")
        page.setFont("Helvetica", 11)
        page.drawString(
            72, 600, "holds what the keeper set; nobody else may write to it while a ship is in."
        )

    def test_lines_in_letters_of_one_width_are_code_with_their_blanks(self) -> None:
        reading = read(canvas(self.page), "a.pdf")
        assert texts(reading, "code") == ["\n".join(self.LINES), "$ harbour --status"]
        # A name alone on its line is none.
        assert "harbour.conf" in texts(reading, "paragraph")

    def test_each_line_of_code_keeps_its_place_on_the_page(self) -> None:
        reading = read(canvas(self.page), "a.pdf")
        start = reading.text.index("line.secure()")
        (place,) = [place for place in reading.places if place.start <= start < place.end]
        assert reading.text[place.start : place.end].strip() == "line.secure()"
        assert place.left == pytest.approx((72 + 48) / A4[0], abs=0.01)

    def test_a_line_that_was_too_long_for_the_page_is_whole_again(self) -> None:
        def page(page: Canvas) -> None:
            for row, (line, goes_on) in enumerate(
                (("moor --ship Gannet --lines bow,", 1), ("stern,spring", 0), ("moor --check", 0))
            ):
                page.setFont("Courier", 10)
                page.drawString(72 if row != 1 else 96, 700 - 12 * row, line)
                if goes_on:
                    page.setFont("Symbol", 10)
                    page.drawString(76 + 6 * len(line), 700 - 12 * row, "↵")

        assert texts(read(canvas(page), "a.pdf"), "code") == [
            "moor --ship Gannet --lines bow, stern,spring\nmoor --check"
        ]

    def test_a_table_in_such_letters_stays_a_table(self) -> None:
        style = TableStyle(
            [("GRID", (0, 0), (-1, -1), 0.5, "black"), ("FONTNAME", (0, 0), (-1, -1), "Courier")]
        )
        out = io.BytesIO()
        SimpleDocTemplate(out).build(
            [Table([["Berth", "Depth"], ["1", "4.2"], ["2", "9.0"]], style=style)]
        )
        assert texts(read(out.getvalue(), "a.pdf"), "table") == ["Berth\tDepth\n1\t4.2\n2\t9.0"]


class TestHeadingsAndEdges:
    def book(self, outline: bool) -> bytes:
        out = io.BytesIO()
        page = Canvas(out, pagesize=A4)
        for chapter in range(1, 7):
            page.setFont("Helvetica", 8)
            page.drawString(60, 800, f"Harbour handbook    {chapter}")
            page.setFont("Helvetica-Bold", 16)
            page.drawString(60, 750, f"{chapter} Rules of the {WORDS[chapter]}")
            if outline:
                page.bookmarkPage(f"c{chapter}")
                page.addOutlineEntry(f"Rules of the {WORDS[chapter]}", f"c{chapter}", 0)
            page.setFont("Helvetica", 10)
            for line in range(20):
                page.drawString(60, 720 - line * 12, prose(chapter * 20 + line, 9))
            page.showPage()
        page.save()
        return out.getvalue()

    @pytest.mark.parametrize("outline", [True, False])
    def test_headings_are_found_and_running_lines_dropped(self, outline: bool) -> None:
        reading = read(self.book(outline), "a.pdf")
        assert texts(reading, "heading") == [f"{n} Rules of the {WORDS[n]}" for n in range(1, 7)]
        assert {block.level for block in reading.blocks if block.kind == "heading"} == {1}
        assert "handbook" not in reading.text

    def test_rotated_pages_read_upright(self) -> None:
        def draw(page: Canvas) -> None:
            page.setPageRotation(90)
            page.translate(595, 0)
            page.rotate(90)
            for row in range(5):
                page.drawString(60, 500 - row * 14, f"row{row} {prose(row, 6)}")

        reading = read(canvas(draw), "a.pdf")
        assert [word for word in reading.text.split() if word.startswith("row")] == [
            f"row{n}" for n in range(5)
        ]
        assert all(place.right - place.left > place.bottom - place.top for place in reading.places)

    def test_a_text_layer_laid_twice_is_read_once(self) -> None:
        def draw(page: Canvas) -> None:
            for _ in range(2):
                page.drawString(60, 700, "The lock opens at nine each morning.")

        assert read(canvas(draw), "a.pdf").text == "The lock opens at nine each morning."

    @pytest.mark.slow
    def test_a_scanned_page_among_others_is_recognised(self) -> None:
        from reportlab.lib.utils import ImageReader

        def draw(page: Canvas) -> None:
            page.drawString(60, 700, "This page has a text layer of its own.")
            page.showPage()
            page.drawImage(
                ImageReader(io.BytesIO(samples.drawn(["The lock opens at nine."], 60))),
                40,
                400,
                500,
                80,
            )
            page.drawImage(
                ImageReader(io.BytesIO(samples.drawn(["Nobody swims in the basin."], 60))),
                40,
                100,
                500,
                250,
            )

        reading = read(canvas(draw), "a.pdf")
        assert "The lock opens at nine." in reading.text
        report = report_of(reading)
        assert [page for page, _ in report.recognised] == [2]
        assert report.recognised[0][1] > 0.8


class TestDrawing:
    def test_a_page_is_drawn_as_wide_as_asked(self) -> None:
        from PIL import Image

        data = canvas(lambda page: page.drawString(60, 700, "x"))
        assert Image.open(io.BytesIO(draw_page(data, "application/pdf", 1, 320))).width == 320


class TestDescribing:
    def reading(self, title: str, *paragraphs: str) -> Reading:
        builder = ReadingBuilder(title=title)
        for paragraph in paragraphs:
            builder.paragraph(paragraph)
        return builder.build("en")

    def test_a_description_quotes_the_document(self) -> None:
        first = "The storm plan says when the port reduces its work and when it closes."
        reading = self.reading(
            "Storm plan", first, "The port closes at 50 knots in any case whatever the pilots say."
        )
        assert describe(reading).description.startswith(first)

    @pytest.mark.parametrize("title", ["untitled", "Document1", "scan_0012.pdf", "2024 12", ""])
    def test_a_title_that_says_nothing_is_replaced(self, title: str) -> None:
        assert (
            suggested_title(self.reading(title, "Rules of the lock. They hold."))
            == "Rules of the lock"
        )

    def test_a_title_that_says_something_stays(self) -> None:
        assert suggested_title(self.reading("Lock rules", "They hold.")) == "Lock rules"


block = st.one_of(
    st.tuples(st.just("heading"), st.text(max_size=30), st.integers(1, 4)),
    st.tuples(st.just("paragraph"), st.text(max_size=400)),
    st.tuples(st.just("list"), st.lists(st.text(max_size=60), max_size=6)),
    st.tuples(
        st.just("table"),
        st.lists(st.lists(st.text(max_size=20), min_size=2, max_size=4), max_size=8),
        st.integers(0, 1),
    ),
    st.tuples(st.just("code"), st.text(max_size=200)),
    st.tuples(st.just("cue"), st.text(max_size=80), st.floats(0, 1e5)),
    st.tuples(st.just("figure"), st.text(max_size=30)),
)
SETTINGS = st.builds(
    SplitSettings,
    target_tokens=st.integers(20, 80),
    min_tokens=st.integers(0, 20),
    overlap_tokens=st.integers(0, 15),
    table_mode=st.sampled_from(["packed", "single"]),
)


def built(parts: list[tuple[object, ...]]) -> Reading:
    builder = ReadingBuilder(title="t")
    for kind, *text in parts:
        getattr(builder, str(kind))(*text)
    return builder.build("en")


@given(st.lists(block, max_size=12))
def test_blocks_are_in_order_and_never_overlap(parts: list[tuple[object, ...]]) -> None:
    reading = built(parts)
    end = 0
    for result in reading.blocks:
        assert end <= result.start < result.end <= len(reading.text)
        end = result.end
    assert Reading.from_dict(reading.to_dict()) == reading
    report = report_of(reading)
    assert sum(report.blocks.values()) == len(reading.blocks)


@given(st.lists(block, max_size=12), SETTINGS)
def test_passages_cover_every_block_and_quote_to_the_letter(
    parts: list[tuple[object, ...]], settings: SplitSettings
) -> None:
    reading = built(parts)
    passages = split(reading, settings, estimate_tokens)
    assert all(reading.text[p.start : p.end] == p.text for p in passages)
    assert [p.start for p in passages] == sorted(p.start for p in passages)
    covered: set[int] = set()
    for passage in passages:
        covered.update(range(passage.start, passage.end))
        for part in passage.parts:
            assert passage.start <= part.start < part.end <= passage.end
    trailing = len(reading.blocks)
    while trailing and reading.blocks[trailing - 1].kind == "heading":
        trailing -= 1
    for result in reading.blocks[:trailing]:
        missing = [
            i
            for i in range(result.start, result.end)
            if i not in covered and not reading.text[i].isspace()
        ]
        assert not missing, asdict(result)


@given(
    st.lists(
        st.lists(st.text("abc ", min_size=1, max_size=40), min_size=3, max_size=3),
        min_size=2,
        max_size=30,
    ),
    SETTINGS,
)
def test_no_row_of_a_table_is_cut(rows: list[list[str]], settings: SplitSettings) -> None:
    builder = ReadingBuilder()
    builder.table(rows, 1, row=5)
    reading = builder.build("en")
    lines = reading.text.split("\n")
    for passage in split(reading, settings, estimate_tokens):
        assert set(passage.text.split("\n")) <= set(lines)
        assert passage.locator.rows is not None
        first, last = passage.locator.rows
        assert passage.text.split("\n") == lines[first - 5 : last - 4]
