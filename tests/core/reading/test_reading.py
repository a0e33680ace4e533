"""Reading: every format to the same structure; hostile input to one clear reason."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path

import docx
import pytest
from hypothesis import given
from hypothesis import strategies as st
from reportlab.lib.pdfencrypt import StandardEncryption
from reportlab.pdfgen.canvas import Canvas

from fontanel.core.reading import Reading, ReadingFailed, read
from fontanel.core.reading.model import ReadingBuilder
from tests.conftest import DOCUMENTS


def blocks(reading: Reading) -> list[tuple[str, str]]:
    return [(block.kind, reading.text[block.start : block.end]) for block in reading.blocks]


def pdf(*pages: list[tuple[float, float, str]], **options: object) -> bytes:
    out = io.BytesIO()
    canvas = Canvas(out, **options)
    for page in pages:
        for x, y, text in page:
            canvas.drawString(x, y, text)
        canvas.showPage()
    canvas.save()
    return out.getvalue()


class TestMarkdown:
    def test_headings_lists_tables_and_code_become_blocks(self) -> None:
        source = b"""---
title: Lock notes
---
# Lock

The lock *opens* at `06:00`.

1. Call the keeper.
2. Wait.
   - at the pontoon

| Length | Fee |
|---|---|
| 8 m | 9 crowns |

```
lock --open
```
"""
        reading = read(source, "lock.md")
        assert reading.title == "Lock notes"
        assert blocks(reading) == [
            ("heading", "Lock"),
            ("paragraph", "The lock opens at 06:00."),
            ("list", "1. Call the keeper.\n2. Wait.\n  - at the pontoon"),
            ("table", "Length\tFee\n8 m\t9 crowns"),
            ("code", "lock --open"),
        ]
        assert reading.blocks[0].anchor == "lock"
        assert reading.blocks[3].header_rows == 1

    def test_front_matter_without_title_leaves_the_heading_as_title(self) -> None:
        assert read(b"---\nyear: 2024\n---\n# Berths\n\nText.\n", "x.md").title == "Berths"

    def test_an_ordered_list_keeps_its_first_number(self) -> None:
        assert blocks(read(b"4. four\n5. five\n", "x.md")) == [("list", "4. four\n5. five")]


class TestHtml:
    def test_navigation_scripts_and_footers_are_left_out(self) -> None:
        source = b"""<html><head><title>Buoys</title><script>alert(1)</script></head><body>
        <nav><a href=/>Home</a></nav><div class="sidebar">Related</div>
        <main><h1 id="top">Buoys</h1><p>Every buoy is <b>looked</b> at once a month, from the water, in all seasons,
        and whenever a ship reports that it is adrift or dark.</p></main>
        <footer>Printed copies</footer></body></html>"""  # noqa: E501
        reading = read(source, "buoys.html")
        assert reading.title == "Buoys"
        assert reading.text.startswith("Buoys\n\nEvery buoy is looked at once a month")
        for removed in ("alert", "Home", "Related", "Printed"):
            assert removed not in reading.text
        assert reading.blocks[0].anchor == "top"

    def test_words_are_not_glued_where_tags_meet(self) -> None:
        reading = read(
            b"<p>one</p><div>two<div>three</div>four</div><ul><li>five<br>six</li></ul>", "x.html"
        )
        assert reading.text.split() == ["one", "two", "three", "four", "-", "five", "six"]

    def test_tables_keep_rows_columns_and_headers(self) -> None:
        source = (
            b"<table><thead><tr><th>Berth<th>Depth</thead><tr><td>4<td>6.8 m<tr><td>5<td>4.2"
            b" m</table>"
        )
        reading = read(source, "x.html")
        assert blocks(reading) == [("table", "Berth\tDepth\n4\t6.8 m\n5\t4.2 m")]
        assert reading.blocks[0].header_rows == 1

    def test_a_table_used_for_layout_is_read_as_text(self) -> None:
        source = (
            b"<table><tr><td><h2>Left</h2><p>Some"
            b" text.</p><table><tr><td>a<td>b</table></td></tr></table>"
        )
        assert [kind for kind, _ in blocks(read(source, "x.html"))][:2] == ["heading", "paragraph"]

    def test_definition_lists_join_term_and_meaning(self) -> None:
        reading = read(
            b"<dl><dt>Conn</dt><dd>The conduct of the"
            b" ship.</dd><dt>Lee</dt><dd>Sheltered.</dd></dl>",
            "x.html",
        )
        assert [text for _, text in blocks(reading)] == [
            "Conn: The conduct of the ship.",
            "Lee: Sheltered.",
        ]

    def test_nested_lists_are_indented_and_text_after_them_stays(self) -> None:
        reading = read(b"<ul><li>a<ul><li>b</li></ul>tail</li><li>c</li></ul>", "x.html")
        assert reading.text == "- a tail\n  - b\n- c"

    def test_code_keeps_its_lines(self) -> None:
        assert blocks(read(b"<pre>a = 1\n  b = 2\n</pre>", "x.html")) == [
            ("code", "a = 1\n  b = 2")
        ]

    def test_the_stated_encoding_is_used(self) -> None:
        source = "<meta charset=iso-8859-2><p>Příliš žluťoučký kůň".encode("iso-8859-2")
        assert "žluťoučký" in read(source, "x.html").text

    def test_ten_thousand_nested_elements_do_no_harm(self) -> None:
        reading = read(
            b"<p>before</p>" + b"<div>" * 10_000 + b"deep" + b"</div>" * 10_000, "x.html"
        )
        assert "before" in reading.text


class TestPlainText:
    def test_underlined_and_numbered_headings_paragraphs_and_lists(self) -> None:
        source = (
            b"Group bookings\n==============\n\nTen or more\npeople are a group.\n\n2.1 Paying\n\n-"
            b" cash\n- card\n  or voucher\n"
        )
        assert blocks(read(source, "x.txt")) == [
            ("heading", "Group bookings"),
            ("paragraph", "Ten or more people are a group."),
            ("heading", "2.1 Paying"),
            ("list", "- cash\n- card or voucher"),
        ]

    @pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-32"])
    def test_unicode_encodings(self, encoding: str) -> None:
        assert "Größe ≥ 3" in read("Die Größe ≥ 3 Meter".encode(encoding), "x.txt").text

    def test_an_unstated_encoding_is_guessed_and_said(self) -> None:
        text = "Die Schleuse öffnet früh. Überholen ist verboten. Fußgänger müssen warten. " * 10
        reading = read(text.encode("cp1252"), "x.txt")
        assert "Fußgänger müssen" in reading.text
        assert "encoding" in reading.warnings[0]

    def test_a_title_from_the_name_when_there_is_none_inside(self) -> None:
        assert read(b"just text here", "notes/lock_times-2024.txt").title == "Lock times 2024"


class TestDocx:
    def test_headings_lists_and_tables(self) -> None:
        document = docx.Document()
        document.core_properties.title = "Crane rules"
        document.add_heading("Cranes", 1)
        document.add_paragraph("The crane stops.")
        document.add_paragraph("First", style="List Number")
        document.add_paragraph("Second", style="List Number")
        document.add_paragraph("Inner", style="List Bullet 2")
        table = document.add_table(rows=2, cols=2)
        for cell, text in zip(
            [c for row in table.rows for c in row.cells],
            ["Berth", "Depth", "4", "6.8 m"],
            strict=True,
        ):
            cell.text = text
        out = io.BytesIO()
        document.save(out)
        reading = read(out.getvalue(), "x.docx")
        assert reading.title == "Crane rules"
        assert blocks(reading) == [
            ("heading", "Cranes"),
            ("paragraph", "The crane stops."),
            ("list", "1. First\n2. Second\n  - Inner"),
            ("table", "Berth\tDepth\n4\t6.8 m"),
        ]

    def test_a_zip_bomb_is_refused_before_it_is_unpacked(self) -> None:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("word/document.xml", b"0" * 300_000_000)
        with pytest.raises(ReadingFailed) as failure:
            read(out.getvalue(), "bomb.docx")
        assert failure.value.code == "too_large"

    def test_a_document_with_broken_xml_is_damaged(self) -> None:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.writestr("word/document.xml", b"<broken")
        with pytest.raises(ReadingFailed) as failure:
            read(out.getvalue(), "x.docx")
        assert failure.value.code == "damaged"


class TestPicturesInPages:
    def test_a_picture_is_read_by_its_description(self) -> None:
        reading = read(
            b"<p>The mark <img alt='a red cone'> is lit.</p><figure><img"
            b" alt='x'><figcaption>Marks</figcaption></figure>",
            "a.html",
        )
        assert reading.text == "The mark a red cone is lit.\n\nMarks x"
        assert reading.figures == 2

    def test_a_description_with_stray_characters_does_no_harm(self) -> None:
        assert read(
            b"<p>The mark <img alt='a\x01&#1;\x0bcone'> is lit.</p>", "a.html"
        ).text.startswith("The mark")

    def test_broken_tags_do_no_harm(self) -> None:
        assert read(b"<body><p>One <di\x01v>two</p><p>three</p></body>", "a.html").text.endswith(
            "three"
        )

    def test_nothing_but_comments_is_no_text(self) -> None:
        with pytest.raises(ReadingFailed) as failure:
            read(b"<!-- <html> --><!-- nothing -->", "a.html")
        assert failure.value.code == "no_text"

    def test_bars_of_links_to_the_pages_around_are_left_out(self) -> None:
        bar = b"<div>Next: <a rel=next href=b>B</a>, Previous: <a rel=prev href=a>A</a></div>"
        assert (
            read(b"<body>" + bar + b"<h1>Rules</h1><p>They hold.</p></body>", "a.html").text
            == "Rules\n\nThey hold."
        )

    def test_a_box_laid_out_as_a_table_is_no_table(self) -> None:
        page = (
            b"<body><div class='note'><table><tr><td>Note</td><td>Ask"
            b" first.</td></tr></table></div></body>"
        )
        assert {block.kind for block in read(page, "a.html").blocks} == {"paragraph"}


class TestPdf:
    def test_running_heads_and_page_numbers_are_dropped(self) -> None:
        pages: list[list[tuple[float, float, str]]] = [
            [
                (72, 800, "Skerrow Harbour Trust"),
                (72, 600, f"Unique text of page {n}."),
                (300, 20, f"Page {n}"),
            ]
            for n in range(1, 6)
        ]
        reading = read(pdf(*pages), "x.pdf")
        assert reading.pages == 5
        assert "Skerrow" not in reading.text
        assert "Page 3" not in reading.text
        assert [block.page for block in reading.blocks] == [1, 2, 3, 4, 5]

    def test_hyphenated_lines_are_joined(self) -> None:
        reading = read(
            pdf(
                [
                    (72, 700, "The vessel leaves the har-"),
                    (72, 686, "bour at once, and then it"),
                    (72, 672, "turns."),
                ]
            ),
            "x.pdf",
        )
        assert reading.text == "The vessel leaves the harbour at once, and then it turns."

    def test_the_handbook_has_its_structure(self) -> None:
        data = (DOCUMENTS / "marine-operations" / "pilotage-handbook.pdf").read_bytes()
        seen: list[tuple[int, int]] = []
        reading = read(
            data, "pilotage-handbook.pdf", progress=lambda done, total: seen.append((done, total))
        )
        assert reading.pages is not None
        assert reading.pages >= 25
        assert seen[-1] == (reading.pages, reading.pages)
        paths = {path for _, path in reading.headed_blocks()}
        assert any(
            path[-1] == "10.1 Who decides" and "10. Decisions in heavy weather" in path
            for path in paths
        )
        table = next(block for block in reading.blocks if block.kind == "table")
        rows = reading.text[table.start : table.end].split("\n")
        assert rows[0].split("\t") == ["Berth", "Greatest length", "Greatest draught", "Use"]
        assert "Berth 4\t120 m\t6.8 m\tcrane berth" in rows

    def test_a_cell_of_two_lines_stays_one_cell(self) -> None:
        reading = read(
            (DOCUMENTS / "marine-operations" / "storm-plan.pdf").read_bytes(), "storm-plan.pdf"
        )
        assert (
            "Amber\t25 to 34 knots\tcranes stop at their own limits, moorings are doubled, weather"
            " log every 10 minutes" in reading.text
        )

    def test_an_encrypted_file_is_named_so(self) -> None:
        data = pdf([(72, 700, "secret")], encrypt=StandardEncryption("open sesame"))
        with pytest.raises(ReadingFailed) as failure:
            read(data, "x.pdf")
        assert failure.value.code == "encrypted"

    def test_a_truncated_file_is_damaged_or_read_in_part(self) -> None:
        data = (DOCUMENTS / "marine-operations" / "storm-plan.pdf").read_bytes()
        with pytest.raises(ReadingFailed) as failure:
            read(data[:400], "x.pdf")
        assert failure.value.code == "damaged"

    def test_pages_with_drawings_only_are_reported_and_blank_pages_are_not(self) -> None:
        assert read(pdf([(72, 700, "words")], [], []), "x.pdf").warnings == ()
        out = io.BytesIO()
        drawing = Canvas(out)
        drawing.drawString(72, 700, "words")
        for _ in range(2):
            drawing.showPage()
            drawing.line(72, 700, 200, 600)
        drawing.save()
        assert read(out.getvalue(), "x.pdf").warnings == ("No text on pages 2, 3",)
        with pytest.raises(ReadingFailed) as failure:
            read(pdf([], []), "x.pdf")
        assert failure.value.code == "no_text"


class TestTypes:
    def test_the_bytes_decide_not_the_name(self) -> None:
        assert read(b"<!DOCTYPE html><p>hello there", "page.txt").text == "hello there"
        assert read(pdf([(72, 700, "inside a PDF")]), "notes.md").text == "inside a PDF"

    @pytest.mark.parametrize(
        ("data", "code"),
        [
            (b"", "empty"),
            (b" \n\t ", "empty"),
            (b"\x00" * 500, "empty"),
            (b"\x89PNG\r\n\x1a\n" + b"x" * 100, "damaged"),
            (b"GIF89a\x00\x01" + b"\x00" * 100, "unsupported"),
            (b"\x00\x01\x02\x03" * 200, "unsupported"),
            (b"PK\x03\x04 not really", "damaged"),
            (b"<html><body><script>x</script></body></html>", "no_text"),
        ],
    )
    def test_what_cannot_be_read_has_one_reason(self, data: bytes, code: str) -> None:
        with pytest.raises(ReadingFailed) as failure:
            read(data, "file.bin")
        assert failure.value.code == code
        assert str(failure.value).endswith(".")


@given(st.binary(max_size=2000), st.sampled_from(["a.md", "a.html", "a.txt", "a.pdf", "a.docx"]))
def test_any_bytes_give_a_reading_or_a_reason(data: bytes, name: str) -> None:
    try:
        reading = read(data, name)
    except ReadingFailed:
        return
    assert_sound(reading)


@given(st.text(max_size=2000), st.sampled_from(["a.md", "a.html", "a.txt"]))
def test_any_text_gives_sound_blocks(text: str, name: str) -> None:
    try:
        reading = read(text.encode("utf-8", "surrogatepass"), name)
    except ReadingFailed:
        return
    assert_sound(reading)


def assert_sound(reading: Reading) -> None:
    """Assert that blocks are ordered, inside the text, non-empty, and survive JSON."""
    end = 0
    for block in reading.blocks:
        assert end <= block.start < block.end <= len(reading.text)
        assert reading.text[block.start : block.end].strip()
        end = block.end
    assert Reading.from_dict(reading.to_dict()) == reading


@given(
    st.lists(st.lists(st.text(max_size=20), min_size=1, max_size=4), max_size=6), st.integers(0, 3)
)
def test_table_cells_never_hold_the_separator(rows: list[list[str]], header: int) -> None:
    builder = ReadingBuilder()
    builder.table(rows, header)
    reading = builder.build("en")
    for block in reading.blocks:
        for line in reading.text[block.start : block.end].split("\n"):
            assert line.count("\t") <= max(len(row) for row in rows) - 1


def test_all_demo_documents_read_without_warnings() -> None:
    paths = [path for path in DOCUMENTS.rglob("*") if path.is_file()]
    assert len(paths) == 24
    for path in paths:
        reading = read(path.read_bytes(), Path(path).name)
        assert reading.warnings == ()
        assert reading.language == "en"
        assert_sound(reading)
