"""Further formats: slides, sheets, mail, books and others."""

from __future__ import annotations

import datetime as dt
import io
import json

import pptx
import pytest
from PIL import Image
from pptx.opc.package import Part
from pptx.opc.packuri import PackURI
from pptx.oxml import parse_xml

from fontanel.core.reading import Reading, ReadingFailed, contained_files, detect_media_type, read
from fontanel.core.reading.data.cells import shown
from fontanel.core.reading.data.row_documents import Columns, row_documents
from tests.core import samples


def kinds(reading: Reading) -> list[str]:
    return [block.kind for block in reading.blocks]


def texts(reading: Reading, kind: str) -> list[str]:
    return [reading.text[block.start : block.end] for block in reading.blocks if block.kind == kind]


class TestSlides:
    def test_slides_have_titles_lists_notes_tables_and_charts(self) -> None:
        reading = read(samples.deck(), "storm.pptx")
        assert reading.title == "Storm briefing"
        assert (reading.pages, reading.unit) == (2, "slide")
        assert texts(reading, "heading") == ["When the wind rises", "Speaker notes", "Berths"]
        assert texts(reading, "list") == [
            "- Cranes stop at 14 metres per second\n  - Measured over ten minutes"
        ]
        assert "Berth\tDepth\nNorth\t7 m\nSouth\t4 m" in texts(reading, "table")
        assert "\tCalls\nMay\t12\nJune\t30" in texts(reading, "table")
        assert texts(reading, "figure") == ["Chart of the basin"]
        assert reading.figures == 1
        assert [block.page for block in reading.blocks] == sorted(
            block.page or 0 for block in reading.blocks
        )

    def test_the_boxes_of_a_diagram_are_a_list(self) -> None:
        spaces = (
            'xmlns:a="http://schemas.openxmlformats.org/drawingml/2006/main"'
            ' xmlns:p="http://schemas.openxmlformats.org/presentationml/2006/main"'
            ' xmlns:dgm="http://schemas.openxmlformats.org/drawingml/2006/diagram"'
            ' xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"'
        )
        boxes = "".join(
            f"<dgm:pt><dgm:t><a:p><a:r><a:t>{text}</a:t></a:r></a:p></dgm:t></dgm:pt>"
            for text in ("Call the tower", "Single up", "", "Let go")
        )
        presentation = pptx.Presentation()
        slide = presentation.slides.add_slide(presentation.slide_layouts[5])
        slide.shapes.title.text = "Leaving"
        part = Part(
            PackURI("/ppt/diagrams/data1.xml"),
            "application/vnd.openxmlformats-officedocument.drawingml.diagramData+xml",
            presentation.part.package,
            f"<dgm:dataModel {spaces}><dgm:ptLst>{boxes}</dgm:ptLst></dgm:dataModel>".encode(),
        )
        relation = slide.part.relate_to(
            part, "http://schemas.openxmlformats.org/officeDocument/2006/relationships/diagramData"
        )
        frame = f"""<p:graphicFrame {spaces}><p:nvGraphicFramePr><p:cNvPr id="9" name="Diagram"/><p:cNvGraphicFramePr/><p:nvPr/></p:nvGraphicFramePr>
            <p:xfrm><a:off x="0" y="900000"/><a:ext cx="900000" cy="900000"/></p:xfrm><a:graphic>
            <a:graphicData uri="http://schemas.openxmlformats.org/drawingml/2006/diagram"><dgm:relIds r:dm="{relation}"/></a:graphicData>
            </a:graphic></p:graphicFrame>"""  # noqa: E501
        slide.shapes._spTree.append(parse_xml(frame))
        out = io.BytesIO()
        presentation.save(out)
        assert texts(read(out.getvalue(), "a.pptx"), "list") == [
            "- Call the tower\n- Single up\n- Let go"
        ]

    def test_hidden_slides_are_left_out_and_merged_cells_say_their_text_in_each_row(self) -> None:
        presentation = pptx.Presentation()
        for title in ("Berths", "Not shown", "Tides"):
            presentation.slides.add_slide(presentation.slide_layouts[5]).shapes.title.text = title
        presentation.slides[1]._element.set("show", "0")
        table = presentation.slides[0].shapes.add_table(3, 2, 0, 900_000, 900_000, 900_000).table
        for n, text in enumerate(("Quay", "Berth", "Outer", "7", "", "8")):
            table.cell(*divmod(n, 2)).text = text
        table.cell(1, 0).merge(table.cell(2, 0))
        out = io.BytesIO()
        presentation.save(out)
        reading = read(out.getvalue(), "a.pptx")
        assert texts(reading, "heading") == ["Berths", "Tides"]
        assert [block.page for block in reading.blocks if block.kind == "heading"] == [1, 3]
        assert reading.warnings == ("The hidden slide 2 was left out",)
        assert texts(reading, "table") == ["Quay\tBerth\nOuter\t7\nOuter\t8"]

    def test_a_damaged_deck_says_so(self) -> None:
        with pytest.raises(ReadingFailed) as failure:
            read(samples.zipped({"ppt/presentation.xml": "<broken"}), "a.pptx")
        assert failure.value.code == "damaged"


class TestSheets:
    def test_values_are_as_people_see_them(self) -> None:
        reading = read(samples.workbook(), "dues.xlsx")
        assert (reading.unit, reading.unit_names, reading.pages) == ("sheet", ("Dues",), 1)
        assert "Dues in force" in texts(reading, "paragraph")
        assert texts(reading, "table") == [
            "Vessel\tSince\tFee\tPaid\nMerrow\t2026-03-01\t12.5\tyes\nHollin\t2025-11-15\t40\tno",
            "Port\tCode\nSkerrow\tSKW",
        ]

    def test_tables_know_their_rows_and_headers(self) -> None:
        tables = [
            block for block in read(samples.workbook(), "dues.xlsx").blocks if block.kind == "table"
        ]
        assert [(table.row, table.header_rows) for table in tables] == [(2, 1), (7, 1)]

    def test_hidden_sheets_are_left_out_and_named(self) -> None:
        reading = read(samples.workbook(), "dues.xlsx")
        assert "nobody" not in reading.text
        assert reading.warnings == ("The hidden sheet 'Secret' was left out",)

    @pytest.mark.parametrize(
        ("value", "text"),
        [
            (3.0, "3"),
            (0.1 + 0.2, "0.3"),
            (dt.date(2026, 3, 1), "2026-03-01"),
            (dt.datetime(2026, 3, 1, 8, 30), "2026-03-01 08:30"),
            (dt.time(8, 5), "08:05"),
            (dt.timedelta(hours=26, minutes=5), "26:05"),
            (True, "yes"),
            (None, ""),
        ],
    )
    def test_a_value(self, value: object, text: str) -> None:
        assert shown(value) == text


class TestDelimited:
    @pytest.mark.parametrize("separator", [",", ";", "\t", "|"])
    def test_the_separator_is_found(self, separator: str) -> None:
        rows = [["Berth", "Depth", "Note"], ["North", "7", "rock, and sand"], ["South", "4", "mud"]]
        text = "\n".join(
            separator.join(f'"{cell}"' if separator in cell else cell for cell in row)
            for row in rows
        )
        reading = read(text.encode(), "depths.csv")
        assert reading.text == "Berth\tDepth\tNote\nNorth\t7\trock, and sand\nSouth\t4\tmud"
        assert reading.blocks[0].header_rows == 1

    def test_a_table_without_names_has_no_header(self) -> None:
        reading = read(b"1,2,3\n4,5,6\n7,8,9\n", "numbers.csv")
        assert reading.blocks[0].header_rows == 0

    def test_a_table_named_as_text_is_found_by_its_look(self) -> None:
        data = b"Berth,Depth,Note\nNorth,7,rock\nSouth,4,mud\nEast,5,sand\n"
        assert detect_media_type(data, "depths.txt") == "text/csv"

    def test_rows_become_documents_with_titles_and_tags(self) -> None:
        data = b"Question,Answer,Area\nWhen?,At noon.,Tides\nWhere?,At the lock.,Locks\n"
        result = row_documents(data, "text/csv", Columns(("Answer",), "Question", ("Area",)))
        assert [member.name for member in result] == ["row 000002 When?.md", "row 000003 Where?.md"]
        assert result[0].data == b"# When?\n\nAt noon.\n"
        assert result[1].tags == {"Area": "Locks"}

    def test_a_column_that_is_not_there_is_named(self) -> None:
        with pytest.raises(
            ReadingFailed, match="no column 'Reply' in its first row; it has: 'Question', 'Answer'"
        ):
            row_documents(
                b"Question,Answer\nWhen?,Now\n", "text/csv", Columns(("Reply",), "Question")
            )


class TestJson:
    def test_like_records_are_a_table(self) -> None:
        data = json.dumps(
            [{"berth": "North", "depth": 7}, {"berth": "South", "depth": 4.5}]
        ).encode()
        assert read(data, "depths.json").text == "berth\tdepth\nNorth\t7\nSouth\t4.5"

    def test_nested_values_are_headings_and_lists(self) -> None:
        data = json.dumps({"title": "Harbour", "crane": {"limit": 14, "tags": ["a", "b"]}}).encode()
        reading = read(data, "harbour.json")
        assert reading.title == "Harbour"
        assert texts(reading, "heading") == ["crane", "tags"]
        assert texts(reading, "list") == ["- title: Harbour", "- limit: 14", "- a\n- b"]

    def test_lines_that_are_no_json_are_named(self) -> None:
        reading = read(b'{"a": "1", "b": "2"}\noops\n{"a": "3", "b": "4"}\n', "log.jsonl")
        assert reading.text == "a\tb\n1\t2\n3\t4"
        assert reading.warnings == ("1 lines are not JSON and were left out: 2",)

    @pytest.mark.parametrize("data", [b"[" * 100_000, b'{"a": ', b"nothing at all {"])
    def test_what_is_no_json_fails_with_a_reason(self, data: bytes) -> None:
        with pytest.raises(ReadingFailed) as failure:
            read(data, "a.json")
        assert failure.value.code == "damaged"


class TestBooks:
    def test_chapters_are_read_in_order_without_the_navigation(self) -> None:
        book = samples.epub(
            {"one.xhtml": "<h1>One</h1><p>First.</p>", "two.xhtml": "<h1>Two</h1><p>Second.</p>"},
            "Tides",
        )
        reading = read(book, "tides.epub")
        assert reading.title == "Tides"
        assert reading.text == "One\n\nFirst.\n\nTwo\n\nSecond."
        assert [block.page for block in reading.blocks] == [1, 1, 2, 2]
        assert (reading.unit, reading.unit_names) == (
            "chapter",
            ("OEBPS/one.xhtml", "OEBPS/two.xhtml"),
        )

    def test_a_missing_chapter_is_a_warning(self) -> None:
        book = samples.epub({"one.xhtml": "<p>First.</p>"})
        broken = book.replace(b"one.xhtml", b"uno.xhtml")
        with pytest.raises(ReadingFailed):
            read(broken, "tides.epub")


class TestOpenDocument:
    def test_headings_paragraphs_lists_and_tables(self) -> None:
        body = (
            '<text:h text:outline-level="2">Locks</text:h><text:p>The'
            " gate<text:s/>opens<text:note><text:note-body><text:p>by"
            " hand</text:p></text:note-body></text:note> at high"
            " water.</text:p><text:list><text:list-item><text:p>North</text:p><text:list><text:list-item><text:p>inner</text:p></text:list-item></text:list></text:list-item></text:list><table:table><table:table-row><table:table-cell><text:p>Gate</text:p></table:table-cell><table:table-cell><text:p>Width</text:p></table:table-cell></table:table-row><table:table-row><table:table-cell><text:p>A</text:p></table:table-cell><table:table-cell><text:p>9"  # noqa: E501
            " m</text:p></table:table-cell></table:table-row></table:table>"
        )
        reading = read(samples.odt(body, "Lock notes"), "lock.odt")
        assert reading.title == "Lock notes"
        assert kinds(reading) == ["heading", "paragraph", "footnote", "list", "table"]
        assert (
            reading.text == "Locks\n\nThe gate opens at high water.\n\nby hand\n\n- North\n  -"
            " inner\n\nGate\tWidth\nA\t9 m"
        )

    def test_entities_are_not_expanded(self) -> None:
        bomb = (
            '<!DOCTYPE a [<!ENTITY x "boom boom"><!ENTITY y "&x;&x;&x;">]><office:document-content'
            ' xmlns:office="o"><office:text><p>&y;</p></office:text></office:document-content>'
        )
        data = samples.zipped(
            {"mimetype": "application/vnd.oasis.opendocument.text", "content.xml": bomb}
        )
        assert "boom" not in read(data, "bomb.odt").text


class TestRichText:
    def test_paragraphs_and_characters(self) -> None:
        data = (
            rb"{\rtf1\ansi{\info{\title Harbour dues}}\pard The fee is 12 \'80.\par CAF\'c9"
            rb" RULES\par Nothing else.\par}"
        )
        reading = read(data, "dues.rtf")
        assert reading.title == "Harbour dues"
        assert "The fee is 12 €." in reading.text
        assert texts(reading, "heading") == ["CAFÉ RULES"]


class TestMail:
    def test_a_message_with_its_attachments(self) -> None:
        reading = read(samples.message(), "closed.eml")
        assert reading.title == "Berth North closed"
        assert "- From: Harbour office <office@skerrow.example>" in reading.text
        assert "Berth North is closed until Friday." in reading.text
        assert [member.name for member in contained_files(samples.message(), "message/rfc822")] == [
            "depths.csv",
            "message 2.eml",
        ]

    def test_a_message_in_html_keeps_its_structure(self) -> None:
        reading = read(samples.message(html=True), "closed.eml")
        assert "Closure" in texts(reading, "heading")
        assert "Berth North is closed until Friday." in texts(reading, "paragraph")

    def test_a_message_is_known_by_its_fields(self) -> None:
        assert detect_media_type(samples.message(), "saved.txt") == "message/rfc822"


class TestCaptions:
    VTT = (
        "WEBVTT\n\nNOTE made by hand\n\n00:00:01.000 --> 00:00:03.000\n<v Warden>Good"
        " morning,\n\n00:00:03.000 --> 00:00:05.500\nthe lock opens at nine.\n\n2\n00:01:02.250 -->"
        " 00:01:04.000\n<v Master>Thank you &amp; out.\n"
    )

    def test_cues_are_joined_into_sentences_with_their_time(self) -> None:
        reading = read(self.VTT.encode(), "radio.vtt")
        assert texts(reading, "cue") == [
            "Warden: Good morning, the lock opens at nine.",
            "Master: Thank you & out.",
        ]
        assert [block.seconds for block in reading.blocks] == [1.0, 62.25]

    def test_subrip(self) -> None:
        data = (
            b"1\r\n00:00:01,000 --> 00:00:02,000\r\n<i>Mind the gap.</i>\r\n\r\n2\r\n00:00:03,500"
            b" --> 00:00:04,000\r\nMind it.\r\n"
        )
        assert detect_media_type(data, "film.txt") == "text/vtt"
        reading = read(data, "film.srt")
        assert texts(reading, "cue") == ["Mind the gap.", "Mind it."]


class TestRestructured:
    SOURCE = b"""
Buoys
=====

Each buoy has a *light*; see :ref:`lights <x>`.

Care
----

- paint
- chain

.. code-block:: sh

   check --all

====== =====
Buoy   Light
====== =====
A1     red
====== =====

.. include:: /etc/passwd

.. toctree::

   other
"""

    def test_structure(self) -> None:
        reading = read(self.SOURCE, "buoys.rst")
        assert texts(reading, "heading")[:2] == ["Buoys", "Care"]
        assert "Each buoy has a light; see lights." in texts(reading, "paragraph")
        assert "Buoy\tLight\nA1\tred" in texts(reading, "table")
        assert texts(reading, "code") == ["check --all"]

    def test_nothing_is_included(self) -> None:
        assert "root:" not in read(self.SOURCE, "buoys.rst").text


class TestArchives:
    def test_an_archive_lists_its_files_and_they_are_members(self) -> None:
        data = samples.zipped(
            {"a/rules.md": "# Rules", "__MACOSX/a": "x", "b.txt": "text", "empty.txt": ""}
        )
        reading = read(data, "all.zip")
        assert reading.container
        assert reading.text == "- a/rules.md\n- b.txt"
        assert [(m.name, m.data) for m in contained_files(data, "application/zip")] == [
            ("a/rules.md", b"# Rules"),
            ("b.txt", b"text"),
        ]

    def test_a_bomb_is_refused(self) -> None:
        with pytest.raises(ReadingFailed) as failure:
            read(samples.zipped({"a.txt": b"0" * 300_000_000}), "bomb.zip")
        assert failure.value.code == "too_large"


@pytest.mark.slow
class TestPictures:
    LINES = ["Berth North is closed.", "The tug stays at South."]

    @pytest.mark.parametrize("kind", ["PNG", "JPEG", "TIFF", "WEBP"])
    def test_text_in_a_picture_is_read(self, kind: str) -> None:
        reading = read(samples.drawn(self.LINES, kind=kind), f"notice.{kind.lower()}")
        assert reading.text == "Berth North is closed. The tug stays at South."
        assert reading.blocks[0].confidence is not None
        assert reading.blocks[0].confidence > 0.8

    @pytest.mark.parametrize("degrees", [90, 180, 270])
    def test_a_page_on_its_side_or_head_is_read(self, degrees: int) -> None:
        lines = [
            "The quay crane stops at a gust of 38 knots.",
            "Nobody walks below a load that hangs.",
            "Ask the duty officer.",
        ]
        image = Image.open(io.BytesIO(samples.drawn(lines))).rotate(degrees, expand=True)
        out = io.BytesIO()
        image.save(out, "PNG")
        assert read(out.getvalue(), "turned.png").text == " ".join(lines)

    def test_an_empty_picture_has_no_text(self) -> None:
        with pytest.raises(ReadingFailed) as failure:
            read(samples.drawn([]), "white.png")
        assert failure.value.code == "no_text"


class TestWrongNames:
    @pytest.mark.parametrize(
        ("data", "name", "media_type"),
        [
            (
                samples.deck(),
                "deck.pdf",
                "application/vnd.openxmlformats-officedocument.presentationml.presentation",
            ),
            (
                samples.workbook(),
                "a.docx",
                "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
            ),
            (
                samples.word(),
                "a.zip",
                "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
            ),
            (samples.drawn(["x"]), "a.txt", "image/png"),
            (b"<!doctype html><p>hello", "a.txt", "text/html"),
            (b'{"a": 1}', "a.txt", "application/json"),
        ],
    )
    def test_the_bytes_decide(self, data: bytes, name: str, media_type: str) -> None:
        assert detect_media_type(data, name) == media_type
