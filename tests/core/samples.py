"""Small files of every format, created by common libraries."""

from __future__ import annotations

import datetime as dt
import io
import zipfile
from collections.abc import Mapping
from email.message import EmailMessage
from pathlib import Path

import docx
import pptx
import reportlab
import xlsxwriter
from PIL import Image, ImageDraw, ImageFont
from pptx.chart.data import CategoryChartData
from pptx.enum.chart import XL_CHART_TYPE
from pptx.util import Inches

FONT = str(Path(reportlab.__file__).parent / "fonts" / "Vera.ttf")


def deck() -> bytes:
    """Two slides: a title with two levels of bullets and notes.

    A table, chart and picture.
    """
    presentation = pptx.Presentation()
    presentation.core_properties.title = "Storm briefing"
    slide = presentation.slides.add_slide(presentation.slide_layouts[1])
    slide.shapes.title.text = "When the wind rises"
    frame = slide.placeholders[1].text_frame
    frame.text = "Cranes stop at 14 metres per second"
    paragraph = frame.add_paragraph()
    paragraph.text, paragraph.level = "Measured over ten minutes", 1
    slide.notes_slide.notes_text_frame.text = "Remind everyone of the radio check."
    second = presentation.slides.add_slide(presentation.slide_layouts[5])
    second.shapes.title.text = "Berths"
    table = second.shapes.add_table(3, 2, Inches(1), Inches(2), Inches(5), Inches(1)).table
    for row, cells in enumerate((("Berth", "Depth"), ("North", "7 m"), ("South", "4 m"))):
        for column, text in enumerate(cells):
            table.cell(row, column).text = text
    data = CategoryChartData()
    data.categories = ["May", "June"]
    data.add_series("Calls", (12, 30))
    second.shapes.add_chart(
        XL_CHART_TYPE.COLUMN_CLUSTERED, Inches(1), Inches(4), Inches(4), Inches(2), data
    )
    picture = second.shapes.add_picture(io.BytesIO(drawn(["x"])), Inches(6), Inches(2), Inches(1))
    picture._element._nvXxPr.cNvPr.set("descr", "Chart of the basin")
    out = io.BytesIO()
    presentation.save(out)
    return out.getvalue()


def workbook() -> bytes:
    """A sheet with a titled table of dates, numbers and booleans.

    A region; a hidden sheet.
    """
    out = io.BytesIO()
    book = xlsxwriter.Workbook(out)
    sheet = book.add_worksheet("Dues")
    date = book.add_format({"num_format": "d mmm yyyy"})
    sheet.write(0, 0, "Dues in force")
    for column, name in enumerate(("Vessel", "Since", "Fee", "Paid")):
        sheet.write(1, column, name)
    for row, (vessel, since, fee, paid) in enumerate(
        (
            ("Merrow", dt.datetime(2026, 3, 1), 12.5, True),
            ("Hollin", dt.datetime(2025, 11, 15), 40, False),
        ),
        start=2,
    ):
        sheet.write(row, 0, vessel)
        sheet.write_datetime(row, 1, since, date)
        sheet.write_number(row, 2, fee)
        sheet.write_boolean(row, 3, paid)
    sheet.write(6, 0, "Port")
    sheet.write(6, 1, "Code")
    sheet.write(7, 0, "Skerrow")
    sheet.write(7, 1, "SKW")
    hidden = book.add_worksheet("Secret")
    hidden.write(0, 0, "nobody sees this")
    hidden.hide()
    book.close()
    return out.getvalue()


def zipped(files: Mapping[str, bytes | str]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files.items():
            archive.writestr(name, content)
    return out.getvalue()


def _open_document(kind: str, body: str, title: str = "", styles: str = "") -> bytes:
    spaces = " ".join(
        f'xmlns:{prefix}="urn:oasis:names:tc:opendocument:xmlns:{prefix}:1.0"'
        for prefix in ("office", "text", "table", "style", "drawing", "svg-compatible")
    )
    content = (
        "<office:document-content"
        f" {spaces}><office:automatic-styles>{styles}</office:automatic-styles>"
        f"<office:body><office:{kind}>{body}</office:{kind}></office:body>"
        "</office:document-content>"
    )
    meta = (
        f"<office:document-meta {spaces}"
        f' xmlns:dc="http://purl.org/dc/elements/1.1/"><office:meta><dc:title>{title}</dc:title></office:meta></office:document-meta>'
    )
    manifest = (
        '<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"/>'
    )
    return zipped(
        {
            "mimetype": f"application/vnd.oasis.opendocument.{kind}",
            "content.xml": content,
            "meta.xml": meta,
            "META-INF/manifest.xml": manifest,
        }
    )


def odt(body: str, title: str = "", styles: str = "") -> bytes:
    """An OpenDocument text of a body in its own markup, with its automatic styles."""
    return _open_document("text", body, title, styles)


def ods(rows: list[list[str]], sheet: str = "Sheet") -> bytes:
    """An OpenDocument spreadsheet of one sheet with rows of words."""
    cells = "".join(
        "<table:table-row>"
        + "".join(
            "<table:table-cell"
            f' office:value-type="string"><text:p>{cell}</text:p></table:table-cell>'
            for cell in row
        )
        + "</table:table-row>"
        for row in rows
    )
    return _open_document("spreadsheet", f'<table:table table:name="{sheet}">{cells}</table:table>')


def epub(chapters: dict[str, str], title: str = "A book") -> bytes:
    """A book of chapters in XHTML, with a navigation page that is not a chapter."""
    manifest = "".join(
        f'<item id="c{i}" href="{name}" media-type="application/xhtml+xml"/>'
        for i, name in enumerate(chapters)
    )
    spine = "".join(f'<itemref idref="c{i}"/>' for i in range(len(chapters)))
    package = (
        '<package xmlns="http://www.idpf.org/2007/opf" version="3.0"><metadata'
        f' xmlns:dc="http://purl.org/dc/elements/1.1/"><dc:title>{title}</dc:title></metadata><manifest>{manifest}<item'
        ' id="nav" href="nav.xhtml" properties="nav"'
        ' media-type="application/xhtml+xml"/></manifest><spine><itemref'
        f' idref="nav"/>{spine}</spine></package>'
    )
    container = (
        '<container xmlns="urn:oasis:names:tc:opendocument:xmlns:container"'
        ' version="1.0"><rootfiles><rootfile full-path="OEBPS/book.opf"'
        ' media-type="application/oebps-package+xml"/></rootfiles></container>'
    )
    pages: dict[str, bytes | str] = {
        f"OEBPS/{name}": f'<html xmlns="http://www.w3.org/1999/xhtml"><body>{body}</body></html>'
        for name, body in chapters.items()
    }
    return zipped(
        {
            "mimetype": "application/epub+zip",
            "META-INF/container.xml": container,
            "OEBPS/book.opf": package,
            "OEBPS/nav.xhtml": "<html><body><nav>Contents</nav></body></html>",
            **pages,
        }
    )


def message(html: bool = False) -> bytes:
    """A message with a table attached and another message inside it."""
    mail = EmailMessage()
    mail["From"] = "Harbour office <office@skerrow.example>"
    mail["To"] = "crew@skerrow.example"
    mail["Date"] = "Mon, 02 Mar 2026 08:00:00 +0000"
    mail["Subject"] = "Berth North closed"
    if html:
        mail.set_content(
            "<h2>Closure</h2><p>Berth North is <b>closed</b> until Friday.</p>", subtype="html"
        )
    else:
        mail.set_content("Berth North is closed until Friday.\n\nThe tug stays at South.\n")
    mail.add_attachment("Berth,Depth\nNorth,7\nSouth,4\n", subtype="csv", filename="depths.csv")
    inner = EmailMessage()
    inner["Subject"] = "Earlier notice"
    inner.set_content("The survey begins on Tuesday.")
    mail.add_attachment(inner)
    return mail.as_bytes()


def drawn(lines: list[str], size: int = 40, kind: str = "PNG", width: int = 1400) -> bytes:
    """A picture of lines of text, black on white."""
    image = Image.new("RGB", (width, 120 + len(lines) * size * 3 // 2), "white")
    pen = ImageDraw.Draw(image)
    font = ImageFont.truetype(FONT, size)
    for number, line in enumerate(lines):
        pen.text((60, 60 + number * size * 3 // 2), line, fill="black", font=font)
    out = io.BytesIO()
    image.save(out, kind)
    return out.getvalue()


def word() -> bytes:
    document = docx.Document()
    document.add_heading("Crane rules", 1)
    document.add_paragraph("Nobody walks below a load.")
    out = io.BytesIO()
    document.save(out)
    return out.getvalue()


#: How rich text begins: fonts with their code pages, styles, what is left out.
RICH_HEAD = (
    r"{\rtf1\ansi\ansicpg1252\deff0\uc1"
    r"{\fonttbl{\f0\fswiss\fcharset0 Arial;}{\f1\fmodern\fcharset0 Courier"
    r" New;}{\f2\froman\fcharset204 Times;}{\f3\fnil\fcharset128 Gothic;}}"
    r"{\stylesheet{\ql\fs22 Normal;}{\s1\outlinelevel0\b\fs32\sbasedon0\snext0"
    r" Chapter;}{\s2\sbasedon0 heading 2;}"
    r"{\s3\sbasedon2 Own heading;}{\s4 Title;}{\*\cs1\additive Emphasis;}}"
    r"{\*\listtable{\list{\listlevel\levelnfc23{\leveltext\'01\u8226 ?;}}\listid5}}{\*\generator"
    r" Writer;}"
    r"{\info{\title Mooring rules}{\author Varda Skerrow}{\*\company Harbour}}"
    r"{\header\pard Skerrow Harbour Trust\par}{\footer\pard Page {\field{\*\fldinst PAGE}{\fldrslt"
    r" 1}}\par}"
)


def rich_text() -> bytes:
    """A page with what rich text can hold, as word processors write it."""
    body = (
        r"\pard\plain\s1 Lines\par \pard\plain\fs22 Take \b six\b0  lines; the caf\'e9 \u8211?"
        r" open.{\footnote\pard Since 2024.\par}\par"
        r"{\listtext\pard\'b7\tab}\pard\ls1\ilvl0 double them\par {\pntext"
        r" 1.\tab}{\*\pn\pnlvlbody}\fi-360 call\par"
        r"\trowd\trhdr\cellx3000\cellx6000\pard\intbl Stage\cell Wind\cell\row"
        r" \trowd\cellx3000\pard\intbl Red\cell 35\cell\row"
        r"\pard{\f1 make tide\par}{\f2 \'cf\'f0}{\f3 \'82\'a0}{\v hidden}{\field{\*\fldinst"
        r" HYPERLINK x}{\fldrslt plan}}\par}"
    )
    return (RICH_HEAD + body).encode("latin-1")
