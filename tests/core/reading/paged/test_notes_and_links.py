"""Footnotes, links, and compounds over the end of a line."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Callable

import docx
import pytest
from docx.opc.packuri import PackURI
from docx.opc.part import Part
from docx.oxml import OxmlElement
from docx.oxml.ns import qn
from reportlab.lib.pagesizes import A4
from reportlab.pdfgen.canvas import Canvas

from fontanel.core.embedding.encoder import estimate_tokens
from fontanel.core.passages.splitting import split
from fontanel.core.reading import Reading, ReadingFailed, read
from fontanel.core.reading.paged.lines import Cell, Line, PageLines, join_words
from fontanel.core.reading.paged.pdf_links import links_of_page
from fontanel.facts import SplitSettings
from tests.core import samples
from tests.core.reading.paged.test_layout import texts


def drawn(draw: Callable[[Canvas], None]) -> bytes:
    out = io.BytesIO()
    page = Canvas(out, pagesize=A4)
    draw(page)
    page.save()
    return out.getvalue()


def printed(draw: Callable[[Canvas], None]) -> Reading:
    return read(drawn(draw), "a.pdf")


def filler(page: Canvas, top: float, rows: int) -> None:
    for row in range(rows):
        page.drawString(
            60,
            top - row * 13,
            f"Line {row} describes the harbour and its quays and what is moored there.",
        )


class TestFootnotesOfPages:
    def page_with_note(self, page: Canvas) -> None:
        page.setFont("Times-Roman", 11)
        filler(page, 780, 20)
        page.drawString(60, 505, "Ships pay dues by their length")
        page.setFont("Times-Roman", 7)
        page.drawString(193.5, 509, "1")
        page.setFont("Times-Roman", 11)
        page.drawString(199, 505, "and the masters who come late")
        page.setFont("Times-Roman", 8)
        page.drawString(60, 70, "1 Length over all, as in the")
        page.drawString(60, 60, "ship's papers.")
        page.showPage()
        page.setFont("Times-Roman", 11)
        page.drawString(60, 780, "pay a quarter more.")
        filler(page, 740, 10)
        page.showPage()

    def test_a_paragraph_runs_on_over_the_note_at_the_foot(self) -> None:
        paragraph = next(
            text for text in texts(printed(self.page_with_note), "paragraph") if "Ships pay" in text
        )
        assert "who come late pay a quarter more." in paragraph

    def test_the_note_is_a_block_after_what_it_notes(self) -> None:
        reading = printed(self.page_with_note)
        assert texts(reading, "footnote") == ["1 Length over all, as in the ship's papers."]
        kinds = [block.kind for block in reading.blocks]
        noted = next(
            i for i, b in enumerate(reading.blocks) if "Ships pay" in reading.text[b.start : b.end]
        )
        assert kinds[noted + 1] == "footnote"
        assert reading.blocks[noted + 1].page == 1

    def test_small_print_without_a_mark_is_no_note(self) -> None:
        def draw(page: Canvas) -> None:
            page.setFont("Times-Roman", 11)
            filler(page, 780, 20)
            page.setFont("Times-Roman", 8)
            page.drawString(60, 60, "Printed at the harbour office")

        assert texts(printed(draw), "footnote") == []

    def test_a_note_is_part_of_a_passage(self) -> None:
        reading = printed(self.page_with_note)
        passages = split(reading, SplitSettings(target_tokens=80), estimate_tokens)
        assert any("Length over all" in passage.text for passage in passages)


class TestFootnotesOfWebPages:
    @pytest.mark.parametrize(
        "note",
        [
            '<aside class="footnote" role="note"><span>1</span> <p>Length over all.</p></aside>',
            '<div class="footnotes"><ol><li>Length over all.</li></ol></div>',
            '<dl class="footnote brackets"><dt>1</dt><dd><p>Length over all.</p></dd></dl>',
            '<section role="doc-endnotes"><p>1 Length over all.</p></section>',
        ],
    )
    def test_a_note_is_known_by_its_class_or_role(self, note: str) -> None:
        page = (
            "<html><body><main><p>Dues go by length<a"
            f" class='footnote-reference'>[1]</a>.</p>{note}</main></body></html>"
        )
        reading = read(page.encode(), "a.html")
        assert "Length over all." in " ".join(texts(reading, "footnote"))
        assert texts(reading, "paragraph")[0].startswith("Dues go by length")

    def test_a_note_beside_the_content_is_left_out_and_one_within_is_kept(self) -> None:
        page = (
            "<html><body><aside>Buy our calendar</aside><main><p>The lock opens at six.</p>"
            "<aside>On Sundays at eight.</aside></main></body></html>"
        )
        text = read(page.encode(), "a.html").text
        assert "On Sundays at eight." in text
        assert "calendar" not in text

    def test_a_drawing_that_repeats_the_heading_beside_it_says_nothing(self) -> None:
        page = (
            b'<html><body><div><img alt="[Note]" src="n.png"><h3>Note</h3><p>Mind the'
            b" step.</p></div></body></html>"
        )
        assert read(page, "a.html").text == "Note\n\nMind the step."


class TestCompounds:
    def page(self, *lines: str) -> PageLines:
        made = [
            Line(
                1,
                [Cell(60, 300, text.removesuffix("|"))],
                700 - 13 * n,
                698 - 13 * n,
                709 - 13 * n,
                11,
                broken=text.endswith("|"),
            )
            for n, text in enumerate(lines)
        ]
        return PageLines(1, 595, 842, made)

    def test_a_word_that_the_document_writes_whole_is_whole(self) -> None:
        page = self.page("The harbour is full.", "All har|", "bour dues are due.")
        join_words([page])
        assert page.lines[1].whole

    def test_a_compound_that_the_document_writes_with_a_hyphen_keeps_it(self) -> None:
        page = self.page("The deck is non-slip there.", "Wear shoes that are non|", "slip on deck.")
        join_words([page])
        assert not page.lines[1].whole

    def test_two_words_of_the_document_are_a_compound(self) -> None:
        page = self.page(
            "A tide is specific.", "The tide turns.", "The mark is tide|", "specific here."
        )
        join_words([page])
        assert not page.lines[2].whole

    def test_what_nothing_tells_is_one_word(self) -> None:
        page = self.page("The hawser needs re|", "placement soon.")
        join_words([page])
        assert page.lines[0].whole


class TestLinks:
    def linked(self, page: Canvas) -> None:
        page.drawString(60, 700, "The tide tables and the chart")
        page.linkURL("https://tables.skerrow.example/2026", (60, 695, 160, 712), relative=0)
        page.linkURL("javascript:alert(1)", (200, 695, 260, 712), relative=0)
        page.bookmarkPage("chart", fit="XYZ")
        page.linkRect("", "chart-page", (300, 695, 360, 712))
        page.showPage()
        page.bookmarkPage("chart-page")
        page.drawString(60, 700, "The chart of the outer harbour")
        page.showPage()

    def test_addresses_and_pages_of_the_same_document_are_found_where_they_stand(self) -> None:
        away, within = links_of_page(drawn(self.linked), 1)
        assert (away.address, away.target) == ("https://tables.skerrow.example/2026", None)
        assert away.left == pytest.approx(60 / A4[0], abs=0.01)
        assert away.top == pytest.approx(1 - 712 / A4[1], abs=0.01)
        assert (within.address, within.target) == (None, 2)
        assert links_of_page(drawn(self.linked), 2) == []

    def test_a_page_that_is_not_there_and_a_file_that_is_none_are_refused(self) -> None:
        with pytest.raises(ReadingFailed, match="no page 3"):
            links_of_page(drawn(self.linked), 3)
        with pytest.raises(ReadingFailed, match="damaged"):
            links_of_page(b"%PDF-1.4 and no more", 1)

    def test_a_reading_of_an_earlier_day_comes_back_from_its_dictionary(self) -> None:
        reading = printed(self.linked)
        assert (
            Reading.from_dict(
                {**reading.to_dict(), "links": [[1, 0, 0, 1, 1, "https://skerrow.example", None]]}
            )
            == reading
        )


class TestSlides:
    def test_what_a_slide_says_is_placed_where_it_stands(self) -> None:
        reading = read(samples.deck(), "a.pptx")
        assert reading.shape == pytest.approx(4 / 3, abs=0.01)
        title = next(block for block in reading.blocks if block.kind == "heading")
        place = next(place for place in reading.places if place.start == title.start)
        assert place.page == 1
        assert 0 <= place.left < place.right <= 1
        assert place.bottom < 0.4


def test_the_cells_of_an_open_spreadsheet() -> None:
    reading = read(samples.ods([["Berth", "Depth"], ["North", "7"]], "Depths"), "a.ods")
    assert reading.unit_names == ("Depths",)
    assert texts(reading, "table") == ["Berth\tDepth\nNorth\t7"]


def test_broken_markup_of_an_open_spreadsheet_is_found_before_it_is_read() -> None:
    whole = samples.ods([["Berth", "Depth"], ["North", "7"]])
    with zipfile.ZipFile(io.BytesIO(whole)) as archive:
        entries = {name: archive.read(name) for name in archive.namelist()}
    entries["content.xml"] = entries["content.xml"].replace(b"</table:table>", b"</99table:table>")
    with pytest.raises(ReadingFailed) as failure:
        read(samples.zipped(entries), "a.ods")
    assert failure.value.code == "damaged"


class TestWordDocuments:
    def noted(self) -> bytes:
        """A document whose first paragraph has a footnote, with a merged cell in a table."""
        document = docx.Document()
        paragraph = document.add_paragraph("Ships pay dues by their length.")
        reference = OxmlElement("w:footnoteReference")
        reference.set(qn("w:id"), "2")
        paragraph.add_run()._r.append(reference)
        document.add_paragraph("Boats pay none.")
        table = document.add_table(2, 3)
        for index, text in enumerate(("Both tides", "", "Berth", "4 m", "5 m", "North")):
            table.cell(*divmod(index, 3)).text = text
        table.cell(0, 0).merge(table.cell(0, 1))
        space = 'xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main"'
        notes = (
            f'<w:footnotes {space}><w:footnote w:id="2"><w:p><w:r><w:t>Length over'
            " all.</w:t></w:r></w:p></w:footnote></w:footnotes>"
        )
        part = Part(
            PackURI("/word/footnotes.xml"),
            "application/vnd.openxmlformats-officedocument.wordprocessingml.footnotes+xml",
            notes.encode(),
            document.part.package,
        )
        document.part.relate_to(
            part, "http://schemas.openxmlformats.org/officeDocument/2006/relationships/footnotes"
        )
        out = io.BytesIO()
        document.save(out)
        return out.getvalue()

    def test_a_footnote_follows_the_paragraph_that_refers_to_it(self) -> None:
        reading = read(self.noted(), "a.docx")
        assert [block.kind for block in reading.blocks][:3] == [
            "paragraph",
            "footnote",
            "paragraph",
        ]
        assert texts(reading, "footnote") == ["Length over all."]

    def test_a_merged_cell_leaves_the_others_in_their_columns(self) -> None:
        (table,) = texts(read(self.noted(), "a.docx"), "table")
        assert [row.split("\t") for row in table.split("\n")] == [
            ["Both tides", "", "Berth"],
            ["4 m", "5 m", "North"],
        ]
