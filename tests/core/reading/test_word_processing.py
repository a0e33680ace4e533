"""Word processor documents.

Visible text as headings, lists, tables, code and notes.
"""

from __future__ import annotations

import io
import itertools
from typing import Any

import docx
import pytest
from docx.oxml import parse_xml
from docx.oxml.ns import nsdecls
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from fontanel.core.reading import Reading, read
from tests.core import samples

SPACES = (
    nsdecls("w", "wp", "a", "pic", "r")
    + ' xmlns:mc="http://schemas.openxmlformats.org/markup-compatibility/2006"'
    ' xmlns:wps="http://schemas.microsoft.com/office/word/2010/wordprocessingShape"'
    ' xmlns:v="urn:schemas-microsoft-com:vml"'
)


def blocks(reading: Reading) -> list[tuple[str, int, str]]:
    return [
        (block.kind, block.level, reading.text[block.start : block.end]) for block in reading.blocks
    ]


def texts(reading: Reading) -> list[str]:
    return [text for _, _, text in blocks(reading)]


def saved(document: Any) -> Reading:
    out = io.BytesIO()
    document.save(out)
    return read(out.getvalue(), "rules.docx")


def written(*paragraphs: str) -> Reading:
    """A document of elements in their own markup."""
    document = docx.Document()
    for markup in paragraphs:
        name = markup.split(">", 1)[0].split()[0].lstrip("<")
        document.element.body.insert(
            len(document.element.body) - 1,
            parse_xml(markup.replace(f"<{name}", f"<{name} {SPACES}", 1)),
        )
    return saved(document)


def run(text: str, properties: str = "") -> str:
    return f'<w:r><w:rPr>{properties}</w:rPr><w:t xml:space="preserve">{text}</w:t></w:r>'


class TestWhatIsSeenInWord:
    def test_changes_that_nobody_accepted_yet(self) -> None:
        reading = written(
            f"<w:p>{run('Ships take ')}<w:ins w:id='1' w:author='V'>{run('eight ')}</w:ins><w:del"
            " w:id='2' w:author='V'><w:r><w:delText>six"
            f" </w:delText></w:r></w:del>{run('lines.')}</w:p>",
            f"<w:p><w:moveTo w:id='3' w:author='V'>{run('Moved here.')}</w:moveTo></w:p>",
            f"<w:p><w:moveFrom w:id='4' w:author='V'>{run('Moved away.')}</w:moveFrom></w:p>",
        )
        assert texts(reading) == ["Ships take eight lines.", "Moved here."]

    def test_content_controls_fields_and_tags(self) -> None:
        reading = written(
            f"<w:sdt><w:sdtContent><w:p>{run('In a control.')}</w:p></w:sdtContent></w:sdt>",
            f"<w:p><w:sdt><w:sdtContent>{run('Berth ')}</w:sdtContent></w:sdt><w:smartTag>{run('seven')}</w:smartTag>"  # noqa: E501
            "<w:fldSimple"
            f" w:instr='DATE'>{run(' of nine')}</w:fldSimple><w:r><w:instrText>PAGE</w:instrText></w:r></w:p>",  # noqa: E501
            f"<w:p>{run('Wind')}<w:r><w:tab/></w:r>{run('25')}<w:r><w:noBreakHyphen/></w:r>{run('34')}<w:r><w:br/></w:r>{run('knots')}</w:p>",
        )
        assert texts(reading) == ["In a control.", "Berth seven of nine", "Wind 25-34 knots"]

    def test_hidden_text_and_contents_are_left_out(self) -> None:
        document = docx.Document()
        document.styles.add_style("toc 1", docx.enum.style.WD_STYLE_TYPE.PARAGRAPH)
        document.add_paragraph("Contents", "TOC Heading")
        document.add_paragraph("Lines\t3", "toc 1")
        document.add_heading("Lines", 1)
        paragraph = document.add_paragraph("Six of them")
        paragraph.add_run(" and a secret").font.hidden = True
        assert blocks(saved(document)) == [("heading", 1, "Lines"), ("paragraph", 0, "Six of them")]

    def test_a_text_box_is_read_once_after_its_paragraph(self) -> None:
        box = f"<w:txbxContent><w:p>{run('Call the tower.')}</w:p></w:txbxContent>"
        reading = written(
            f"<w:p>{run('Before leaving:')}<w:r><mc:AlternateContent><mc:Choice"
            f" Requires='wps'><w:drawing><wps:txbx>{box}</wps:txbx>"
            f"</w:drawing></mc:Choice><mc:Fallback><w:pict><v:textbox>{box}</v:textbox></w:pict></mc:Fallback></mc:AlternateContent></w:r></w:p>",
            f"<w:p>{run('Then go.')}</w:p>",
        )
        assert texts(reading) == ["Before leaving:", "Call the tower.", "Then go."]

    def test_pictures_say_their_descriptions(self) -> None:
        picture = io.BytesIO()
        Image.new("RGB", (8, 8)).save(picture, "PNG")
        document = docx.Document()
        document.add_paragraph("The berths:")
        for description in ("A map of the outer berth", ""):
            picture.seek(0)
            shape = document.add_picture(picture)
            shape._inline.docPr.set("descr", description)
        reading = saved(document)
        assert blocks(reading) == [
            ("paragraph", 0, "The berths:"),
            ("figure", 0, "A map of the outer berth"),
        ]
        assert reading.figures == 2


class TestStructureOfWord:
    def test_headings_by_outline_and_by_styles_that_rest_on_others(self) -> None:
        document = docx.Document()
        own = document.styles.add_style("Harbour part", docx.enum.style.WD_STYLE_TYPE.PARAGRAPH)
        own.base_style = document.styles["Heading 2"]
        levelled = document.styles.add_style("Chapter", docx.enum.style.WD_STYLE_TYPE.PARAGRAPH)
        levelled.element.get_or_add_pPr().append(
            parse_xml(f'<w:outlineLvl {nsdecls("w")} w:val="0"/>')
        )
        document.add_paragraph("Mooring", "Title")
        document.add_paragraph("Lines", "Chapter")
        document.add_paragraph("At the outer berth", "Harbour part")
        plain = document.add_paragraph("By night")
        plain._p.get_or_add_pPr().append(parse_xml(f'<w:outlineLvl {nsdecls("w")} w:val="2"/>'))
        text = document.add_paragraph("Not a heading after all.", "Chapter")
        text._p.get_or_add_pPr().append(parse_xml(f'<w:outlineLvl {nsdecls("w")} w:val="9"/>'))
        reading = saved(document)
        assert reading.title == "Mooring"
        assert blocks(reading) == [
            ("heading", 1, "Mooring"),
            ("heading", 1, "Lines"),
            ("heading", 2, "At the outer berth"),
            ("heading", 3, "By night"),
            ("paragraph", 0, "Not a heading after all."),
        ]

    def test_code_by_its_style_or_its_letters(self) -> None:
        document = docx.Document()
        document.styles.add_style("Source Code", docx.enum.style.WD_STYLE_TYPE.PARAGRAPH)
        document.add_paragraph("Run:")
        document.add_paragraph("tide --at noon", "Source Code")
        document.add_paragraph("", "Source Code")
        document.add_paragraph("    wait", "Source Code")
        document.add_paragraph("Or:")
        document.add_paragraph().add_run("make tide").font.name = "Courier New"
        document.add_paragraph("In a line, ").add_run("tide").font.name = "Courier New"
        assert blocks(saved(document))[1:] == [
            ("code", 0, "tide --at noon\n\n    wait"),
            ("paragraph", 0, "Or:"),
            ("code", 0, "make tide"),
            ("paragraph", 0, "In a line, tide"),
        ]

    def test_a_numbered_list_goes_on_after_what_stands_between(self) -> None:
        document = docx.Document()
        numbering = document.part.numbering_part.element
        for number in (91, 92):
            numbering.insert(
                0,
                parse_xml(
                    f'<w:abstractNum {nsdecls("w")} w:abstractNumId="{number}"><w:lvl'
                    ' w:ilvl="0"><w:numFmt w:val="decimal"/></w:lvl><w:lvl w:ilvl="1"><w:numFmt'
                    ' w:val="bullet"/></w:lvl></w:abstractNum>'
                ),
            )
            numbering.append(
                parse_xml(
                    f'<w:num {nsdecls("w")} w:numId="{number}"><w:abstractNumId'
                    f' w:val="{number}"/></w:num>'
                )
            )

        def item(text: str, number: int, level: int = 0) -> None:
            properties = document.add_paragraph(text)._p.get_or_add_pPr()
            properties.append(
                parse_xml(
                    f'<w:numPr {nsdecls("w")}><w:ilvl w:val="{level}"/><w:numId'
                    f' w:val="{number}"/></w:numPr>'
                )
            )

        item("Call the tower", 91)
        item("on channel 12", 91, 1)
        item("Single up", 91)
        document.add_paragraph("When the tower answers:")
        item("Let go", 91)
        document.add_paragraph("")
        item("Another list", 92)
        assert texts(saved(document)) == [
            "1. Call the tower\n  - on channel 12\n2. Single up",
            "When the tower answers:",
            "3. Let go",
            "1. Another list",
        ]

    def test_cells_that_span_rows_say_their_text_in_each(self) -> None:
        document = docx.Document()
        table = document.add_table(4, 3)
        for row, column in itertools.product(range(4), range(3)):
            table.cell(row, column).text = f"{'Depth' if row == 0 else 'Row'} {row}{column}"
        table.cell(1, 0).merge(table.cell(2, 0)).text = "Outer berth"
        table.cell(0, 1).merge(table.cell(0, 2)).text = "Both tides"
        for row in table.rows[:2]:
            row._tr.get_or_add_trPr().append(parse_xml(f"<w:tblHeader {nsdecls('w')}/>"))
        removed = table.rows[3]._tr.get_or_add_trPr()
        removed.append(parse_xml(f"<w:del {nsdecls('w')} w:id='9' w:author='V'/>"))
        reading = saved(document)
        (block,) = reading.blocks
        assert block.header_rows == 2
        assert [line.split("\t") for line in reading.text.split("\n")] == [
            ["Depth 00", "Both tides", ""],
            ["Outer berth", "Row 11", "Row 12"],
            ["Outer berth", "Row 21", "Row 22"],
        ]

    def test_a_table_in_a_cell_is_part_of_the_cell(self) -> None:
        document = docx.Document()
        cell = document.add_table(1, 2).cell(0, 0)
        cell.text = "Limits:"
        inner = cell.add_table(1, 2)
        inner.cell(0, 0).text, inner.cell(0, 1).text = "Amber", "25 knots"
        document.tables[0].cell(0, 1).text = "Mean wind"
        assert texts(saved(document)) == ["Limits: Amber 25 knots\tMean wind"]

    def test_every_paragraph_comes_once_whatever_wraps_it(self) -> None:
        inner = f"<w:p>{run('Deep inside.')}</w:p>"
        for _ in range(120):
            inner = f"<w:sdt><w:sdtContent>{inner}</w:sdtContent></w:sdt>"
        assert texts(written(inner)) == ["Deep inside."]


WORDS = st.lists(st.from_regex(r"[a-z]{1,6}", fullmatch=True), min_size=1, max_size=4)


@pytest.mark.slow
@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from(["p", "item", "code", "ins", "table", "h"]), WORDS),
        min_size=1,
        max_size=12,
    )
)
def test_however_kinds_follow_each_other_each_word_comes_once_and_in_order(
    parts: list[tuple[str, list[str]]],
) -> None:
    document = docx.Document()
    for kind, words in parts:
        text = " ".join(words)
        match kind:
            case "p":
                document.add_paragraph(text)
            case "item":
                document.add_paragraph(text, "List Bullet")
            case "code":
                document.add_paragraph().add_run(text).font.name = "Consolas"
            case "ins":
                paragraph = document.add_paragraph()
                paragraph._p.append(
                    parse_xml(f"<w:ins {nsdecls('w')} w:id='1' w:author='V'>{run(text)}</w:ins>")
                )
            case "table":
                for cell, word in zip(
                    document.add_table(1, len(words)).rows[0].cells, words, strict=True
                ):
                    cell.text = word
            case _:
                document.add_heading(text, 2)
    results = [word for word in saved(document).text.split() if word != "-"]
    assert results == [word for _, words in parts for word in words]


OPEN_STYLES = (
    '<style:style style:name="P1" style:parent-style-name="Preformatted_20_Text"/><style:style'
    ' style:name="P2" style:parent-style-name="Title"/><style:style style:name="Loop"'
    ' style:parent-style-name="Loop"/><text:list-style'
    ' style:name="L1"><text:list-level-style-number text:level="1"/><text:list-level-style-bullet'
    ' text:level="2"/></text:list-style>'
)


class TestOpenDocument:
    def test_numbered_lists_go_on_and_nest(self) -> None:
        def items(*said: str) -> str:
            return "".join(
                f"<text:list-item><text:p>{one}</text:p></text:list-item>" for one in said
            )

        inner = f"<text:list>{items('on channel 12')}</text:list>"
        reading = read(
            samples.odt(
                "<text:list"
                f' text:style-name="L1"><text:list-item><text:p>Call</text:p>{inner}<text:p>and'
                " wait</text:p></text:list-item>"
                f"{items('Single up')}</text:list><text:p>Then:</text:p>"
                '<text:list text:style-name="L1"'
                f' text:continue-numbering="true">{items("Let go")}</text:list>'
                f'<text:list text:style-name="L1"><text:list-item'
                f' text:start-value="7"><text:p>Seven</text:p></text:list-item></text:list>',
                styles=OPEN_STYLES,
            ),
            "a.odt",
        )
        assert texts(reading) == [
            "1. Call\n  - on channel 12\nand wait\n2. Single up",
            "Then:",
            "3. Let go",
            "7. Seven",
        ]

    def test_titles_code_notes_and_pictures(self) -> None:
        body = (
            "<text:table-of-content><text:index-body><text:p>Lines"
            " 3</text:p></text:index-body></text:table-of-content><text:p"
            ' text:style-name="P2">Mooring</text:p><text:p text:style-name="P1">if<text:s'
            ' text:c="2"/>wind:<text:line-break/><text:tab/>wait</text:p><text:p'
            ' text:style-name="P1">done</text:p><text:p>Six'
            " lines<text:note><text:note-citation>1</text:note-citation><text:note-body><text:p>Since"  # noqa: E501
            " 2024.</text:p></text:note-body></text:note> at least.</text:p><text:p"
            ' text:style-name="Loop">The'
            " map:<drawing:frame><drawing:image/><svg-compatible:title>Map</svg-compatible:title><svg-compatible:desc>A"  # noqa: E501
            " map of the outer berth</svg-compatible:desc></drawing:frame></text:p><text:p>In a"
            " box:<drawing:frame><drawing:text-box><text:p> call the"
            " tower</text:p></drawing:text-box></drawing:frame></text:p>"
        )
        reading = read(samples.odt(body, styles=OPEN_STYLES), "a.odt")
        assert reading.title == "Mooring"
        assert blocks(reading) == [
            ("heading", 1, "Mooring"),
            ("code", 0, "if  wind:\n\twait\ndone"),
            ("paragraph", 0, "Six lines at least."),
            ("footnote", 0, "Since 2024."),
            ("paragraph", 0, "The map:"),
            ("figure", 0, "A map of the outer berth"),
            ("paragraph", 0, "In a box: call the tower"),
        ]
        assert reading.figures == 1


def test_a_list_and_a_level_that_are_not_there_do_no_harm() -> None:
    document = docx.Document()
    properties = document.add_paragraph("Fine.")._p.get_or_add_pPr()
    properties.append(
        parse_xml(f"<w:numPr {nsdecls('w')}><w:ilvl w:val='0'/><w:numId w:val='77'/></w:numPr>")
    )
    properties.append(parse_xml(f"<w:outlineLvl {nsdecls('w')} w:val='none'/>"))
    assert texts(saved(document)) == ["- Fine."]
