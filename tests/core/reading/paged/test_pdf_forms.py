"""PDF forms: filled fields are read at their labels, and drawn with the page."""

from __future__ import annotations

import io
import zlib

import numpy as np
import pytest
from PIL import Image, ImageDraw, ImageFont
from reportlab.lib.pagesizes import A4
from reportlab.pdfgen.canvas import Canvas

from fontanel.core.reading import Reading, read
from fontanel.core.reading import detect as types
from fontanel.core.reading.paged.drawing import draw_page
from fontanel.core.reading.paged.pdf_forms import may_hold_notes


def request(ship: str = "Skua of Skerrow", ticked: bool = True) -> bytes:
    """A form with a label beside, before, after and above its fields."""
    out = io.BytesIO()
    page = Canvas(out, pagesize=A4)
    form = page.acroForm
    page.drawString(60, 780, "Berth request")
    page.drawString(60, 700, "Ship:")
    page.drawString(380, 700, "Length:")
    form.textfield(name="ship", value=ship, x=110, y=692, width=200, height=22, fontSize=11)
    form.textfield(name="length", value="92 metres", x=440, y=692, width=90, height=22, fontSize=11)
    form.checkbox(name="pilot", checked=ticked, x=60, y=656, size=14)
    page.drawString(84, 660, "A pilot is wanted")
    form.checkbox(name="tugs", checked=not ticked, x=60, y=626, size=14)
    page.drawString(84, 630, "Tugs are wanted")
    page.drawString(60, 590, "Quay")
    form.choice(
        name="quay", value="Outer", options=["Outer", "Inner"], x=60, y=560, width=100, height=20
    )
    page.drawString(60, 520, "Code:")
    form.textfield(
        name="code", value="tide-table", fieldFlags="password", x=110, y=512, width=200, height=22
    )
    form.textfield(name="empty", value="", x=60, y=470, width=200, height=22)
    page.drawString(60, 440, "Signed at the harbour office.")
    page.showPage()
    page.drawString(60, 700, "Notes:")
    form.textfield(
        name="notes",
        value="Draws 7 metres.\nArrives at noon.",
        fieldFlags="multiline",
        x=110,
        y=640,
        width=300,
        height=80,
    )
    page.save()
    return out.getvalue()


def lines(reading: Reading) -> list[str]:
    return [" ".join(reading.text[block.start : block.end].split()) for block in reading.blocks]


def test_what_was_filled_in_stands_beside_its_label() -> None:
    reading = read(request(), "request.pdf")
    text = " ".join(lines(reading))
    for texts in (
        "Ship: Skua of Skerrow",
        "Length: 92 metres",
        "[x] A pilot is wanted",
        "[ ] Tugs are wanted",
        "Quay Outer",
        "Notes: Draws 7 metres. Arrives at noon.",
    ):
        assert texts in text
    assert text.index("Quay Outer") < text.index("Code:") < text.index("Signed")
    assert "tide-table" not in text
    assert [block.page for block in reading.blocks][-1] == 2


def test_other_values_give_other_text() -> None:
    assert "Ship: Gänsesäger" in " ".join(lines(read(request("Gänsesäger"), "a.pdf")))
    assert "[ ] A pilot is wanted" in " ".join(lines(read(request(ticked=False), "a.pdf")))


def test_places_of_what_was_filled_in_are_on_the_page() -> None:
    reading = read(request(), "request.pdf")
    assert reading.places
    for place in reading.places:
        assert 0 <= place.left <= place.right <= 1
        assert 0 <= place.top <= place.bottom <= 1


def test_the_page_is_drawn_with_what_was_filled_in() -> None:
    def ink(data: bytes) -> int:
        page = Image.open(io.BytesIO(draw_page(data, types.PDF, 1, 800))).convert("L")
        # The box of the ship's name, in shares of the page.
        left, top, right, bottom = 110 / 595, (842 - 714) / 842, 310 / 595, (842 - 692) / 842
        box = page.crop(
            (
                int(left * 800) + 6,
                int(top * page.height) + 5,
                int(right * 800) - 6,
                int(bottom * page.height) - 5,
            )
        )
        return int((np.asarray(box) < 110).sum())

    assert ink(request("Skua of Skerrow")) > ink(request("")) + 50


def written_on(scan: bool = False) -> bytes:
    """A request without fields with text written on it, or as the picture of a page."""
    out = io.BytesIO()
    page = Canvas(out, pagesize=A4)
    if scan:
        picture = Image.new("L", (1190, 1684), 255)
        letters = ImageFont.load_default(size=40)
        pen = ImageDraw.Draw(picture)
        pen.text((120, 120), "Request for a berth at the outer quay", fill=0, font=letters)
        pen.text((120, 255), "Ship", fill=0, font=letters)
        page.drawInlineImage(picture, 0, 0, 595, 842)
    else:
        page.drawString(60, 780, "Request for a berth at the outer quay")
        page.drawString(60, 700, "Ship")
    look = "/Helv 11 Tf 0 g"
    page.freeTextAnnotation("Skua of Skerrow", look, Rect=(120, 694, 260, 711))
    page.freeTextAnnotation("Draws 7 metres.\rArrives at noon.", look, Rect=(60, 560, 260, 600))
    page.freeTextAnnotation("Taken back", look, Rect=(60, 460, 260, 480), F=2)
    page.textAnnotation("A remark for the clerk.", Rect=(300, 694, 320, 711))
    page.save()
    return out.getvalue()


@pytest.mark.parametrize("scan", [False, True])
def test_text_written_onto_a_page_is_read_where_it_stands(scan: bool) -> None:
    reading = read(written_on(scan), "request.pdf")
    assert lines(reading) == [
        "Request for a berth at the outer quay",
        "Ship Skua of Skerrow",
        "Draws 7 metres.",
        "Arrives at noon.",
    ]


@pytest.mark.parametrize(
    ("objects", "found"),
    [
        (b"<</Subtype /FreeText>>", True),
        (b"<</Subtype /Link>>", False),
        (b"<</Subtype /Link>>" * 9_000, False),
    ],
)
def test_notes_are_looked_for_in_packed_objects(objects: bytes, found: bool) -> None:
    head = b"7 0 obj <</Type /ObjStm /N 1 /First 4 /Filter /FlateDecode>> stream\r\n"
    packed = head + zlib.compress(b"1 0 " + objects) + b"\nendstream endobj\n"
    assert may_hold_notes(b"%PDF-1.7\n" + packed * 3) is found
    assert may_hold_notes(b"%PDF-1.7\n" + head + b"not packed"), "what cannot be told is looked at"
    assert may_hold_notes(b"%PDF-1.7\n" + head + zlib.compress(bytes(70 * 1024 * 1024))), (
        "nor unpacked without end"
    )
