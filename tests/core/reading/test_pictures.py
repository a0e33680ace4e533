"""Pictures inside documents are known by a hash, and their descriptions stand at their places."""

from __future__ import annotations

import base64
import io
import zipfile
from collections.abc import Callable
from email.message import EmailMessage

import docx
import pptx
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from pptx.util import Inches
from reportlab.lib.utils import ImageReader
from reportlab.pdfgen.canvas import Canvas

from fontanel.core.reading import Reading, ReadingFailed, detect_media_type, read
from fontanel.core.reading.model import ReadingBuilder
from fontanel.core.reading.pictures import PictureText, sized_picture, with_pictures
from fontanel.core.reading.registry import PicturesAlone, take_pictures

EYES = "harbour-eyes"


def picture(colour: str, width: int = 320, height: int = 200) -> bytes:
    target = io.BytesIO()
    Image.new("RGB", (width, height), colour).save(target, "PNG")
    return target.getvalue()


def word_document(*colours: str) -> bytes:
    document = docx.Document()
    document.add_heading("Crane", 1)
    for colour in colours:
        document.add_paragraph(f"Before the {colour} one.")
        document.add_picture(io.BytesIO(picture(colour)), width=docx.shared.Inches(2))
    document.add_paragraph("The end.")
    target = io.BytesIO()
    document.save(target)
    return target.getvalue()


def slides(*colours: str) -> bytes:
    deck = pptx.Presentation()
    for colour in colours:
        slide = deck.slides.add_slide(deck.slide_layouts[5])
        slide.shapes.title.text = f"Before the {colour} one."
        slide.shapes.add_picture(io.BytesIO(picture(colour)), Inches(2), Inches(2), Inches(3))
    target = io.BytesIO()
    deck.save(target)
    return target.getvalue()


def pdf(*colours: str) -> bytes:
    target = io.BytesIO()
    canvas = Canvas(target, pagesize=(600, 800))
    canvas.drawString(60, 750, "Crane, a page of its own with enough words on it to be read.")
    for number, colour in enumerate(colours):
        top = 700 - 300 * number
        canvas.drawString(60, top, f"Before the {colour} one.")
        canvas.drawImage(ImageReader(io.BytesIO(picture(colour))), 60, top - 210, 300, 190)
        canvas.drawString(60, top - 240, f"After the {colour} one.")
    canvas.save()
    return target.getvalue()


def page(*colours: str) -> bytes:
    shown = "".join(
        f"<p>Before the {colour} one. <img alt='' src='data:image/png;base64,"
        f"{base64.b64encode(picture(colour)).decode()}'></p>"
        for colour in colours
    )
    return f"<html><body><h1>Crane</h1>{shown}<p>The end.</p></body></html>".encode()


def book(*colours: str) -> bytes:
    shown = "".join(
        f'<p>Before the {colour} one.</p><p><img src="{colour}.png"/></p>' for colour in colours
    )
    target = io.BytesIO()
    with zipfile.ZipFile(target, "w") as archive:
        archive.writestr("mimetype", "application/epub+zip")
        archive.writestr(
            "META-INF/container.xml",
            '<container><rootfiles><rootfile full-path="in/book.opf"/></rootfiles></container>',
        )
        archive.writestr(
            "in/book.opf",
            '<package><metadata><title>Crane</title></metadata><manifest><item id="one"'
            ' href="one.xhtml" media-type="application/xhtml+xml"/></manifest><spine><itemref'
            ' idref="one"/></spine></package>',
        )
        archive.writestr("in/one.xhtml", f"<html><body><h1>Crane</h1>{shown}</body></html>")
        for colour in colours:
            archive.writestr(f"in/{colour}.png", picture(colour))
    return target.getvalue()


def saved_page(*colours: str) -> bytes:
    """Return a page as browsers save it, its pictures by their addresses and by an id."""
    shown = "".join(f'<p>Before the {c} one. <img src="{c}.png"></p>' for c in colours[1:])
    saved = EmailMessage()
    saved["Subject"] = "Crane"
    saved["Snapshot-Content-Location"] = saved["Content-Location"] = "https://a.example/x/crane"
    saved.set_content(
        f'<h1>Crane</h1><p>Before the {colours[0]} one. <img src="cid:first"></p>{shown}',
        subtype="html",
    )
    saved.add_related(picture(colours[0]), "image", "png", cid="<first>")
    for colour in colours[1:]:
        where = f"Content-Location: https://a.example/x/{colour}.png"
        saved.add_related(picture(colour), "image", "png", headers=[where])
    return saved.as_bytes()


def letter(*colours: str) -> bytes:
    message = EmailMessage()
    message["From"], message["To"] = "mate@skerrow.example", "crew@skerrow.example"
    message["Subject"] = "Crane"
    shown = "".join(f'<p>Before the {c} one. <img src="cid:{c}@a"></p>' for c in colours)
    message.set_content(f"<h1>Crane</h1>{shown}", subtype="html")
    for colour in colours:
        message.add_related(picture(colour), "image", "png", cid=f"<{colour}@a>")
    return message.as_bytes()


MAKERS = {
    "crane.docx": word_document,
    "crane.pptx": slides,
    "crane.pdf": pdf,
    "crane.html": page,
    "crane.epub": book,
    "crane.mhtml": saved_page,
    "crane.eml": letter,
}


@pytest.mark.parametrize("name", MAKERS)
def test_descriptions_stand_at_their_pictures(name: str) -> None:
    make: Callable[..., bytes] = MAKERS[name]
    data = make("red", "blue")
    plain = read(data, name)
    assert "\ufffc" not in plain.text
    red, blue = (one.sha256 for one in plain.pictures)
    texts = {
        red: PictureText(EYES, "A red crane at work.", "MAX 40 T"),
        blue: PictureText(EYES, "A blue crane at rest."),
    }
    reading = read(data, name, pictures=texts)
    order = ["Before the red", "A red crane at work. Text on it: MAX 40 T"]
    order += ["Before the blue", "A blue crane at rest."]
    places = [reading.text.index(part) for part in order]
    assert places == sorted(places)
    described = [block for block in reading.blocks if block.described_by is not None]
    assert [(block.kind, block.picture) for block in described] == [
        ("figure", red),
        ("figure", blue),
    ]
    assert {block.described_by for block in described} == {EYES}
    # Without the descriptions, everything is as before.
    kept = [reading.text[b.start : b.end] for b in reading.blocks if b.described_by is None]
    assert kept == [plain.text[block.start : block.end] for block in plain.blocks]
    taken = take_pictures(data, detect_media_type(data, name), [red, blue])
    for sha256, colour in ((red, (255, 0, 0)), (blue, (0, 0, 255))):
        with Image.open(io.BytesIO(taken[sha256])) as image:
            assert image.format == "JPEG"
            shown = image.convert("RGB").getpixel((20, 20))
            assert isinstance(shown, tuple)
            assert all(abs(a - b) < 12 for a, b in zip(shown, colour, strict=True))


def test_a_description_in_a_pdf_has_the_place_of_its_picture() -> None:
    data = pdf("red")
    (one,) = read(data, "crane.pdf").pictures
    reading = read(data, "crane.pdf", pictures={one.sha256: PictureText(EYES, "A red crane.")})
    start = reading.text.index("A red crane.")
    (place,) = [place for place in reading.places if place.start == start]
    assert place.left == pytest.approx(0.1)
    assert place.top == pytest.approx(0.15, abs=0.03)
    after = reading.text.index("After the red one.")
    assert start < after
    line = next(place for place in reading.places if place.start == after)
    assert reading.text[line.start : line.end] == "After the red one."


def test_a_photograph_without_text_can_be_described() -> None:
    data = picture("green")
    with pytest.raises(PicturesAlone, match="only pictures") as alone:
        read(data, "photo.png")
    (one,) = alone.value.pictures
    texts = {one.sha256: PictureText(EYES, "A green field behind the yard.")}
    assert read(data, "photo.png", pictures=texts).text == "A green field behind the yard."
    assert set(take_pictures(data, "image/png", [one.sha256])) == {one.sha256}


def test_ornaments_and_logos_are_no_pictures() -> None:
    assert read(page("red", "red", "red", "red"), "a.html").pictures == ()
    small = base64.b64encode(picture("red", 40, 40)).decode()
    line = base64.b64encode(picture("red", 2000, 70)).decode()
    text = f"<p>Text</p><img src='data:image/png;base64,{small}'>"
    text += f"<img src='data:image/png;base64,{line}'><img src='data:image/png;base64,AAAA'>"
    assert read(text.encode(), "a.html").pictures == ()


def test_a_damaged_picture_does_not_damage_its_document() -> None:
    whole = picture("red")
    broken = base64.b64encode(whole[: len(whole) // 2]).decode()
    data = f"<p>Text</p><img src='data:image/png;base64,{broken}'>".encode()
    reading = read(data, "a.html")
    assert reading.text == "Text"
    assert take_pictures(data, "text/html", [one.sha256 for one in reading.pictures]) == {}
    with pytest.raises(ReadingFailed):
        take_pictures(b"%PDF-1.4 nothing", "application/pdf", ["a"])


@given(
    st.lists(
        st.tuples(st.sampled_from(["text", "captioned", "bare"]), st.booleans()),
        min_size=1,
        max_size=12,
    )
)
def test_blocks_and_places_stay_together(parts: list[tuple[str, bool]]) -> None:
    builder = ReadingBuilder(title="Parts")
    texts: dict[str, PictureText] = {}
    for number, (kind, described) in enumerate(parts):
        if kind == "text":
            builder.paragraph(f"Paragraph {number}.")
            continue
        one = sized_picture(f"{number:064}", 300, 300)
        assert one is not None
        builder.figure(f"Caption {number}." if kind == "captioned" else "", (), one)
        if described:
            texts[one.sha256] = PictureText(EYES, f"Description {number}.")
    reading: Reading = with_pictures(builder.build("en"), texts)
    expected = []
    for number, (kind, described) in enumerate(parts):
        expected += [f"Paragraph {number}."] if kind == "text" else []
        expected += [f"Caption {number}."] if kind == "captioned" else []
        expected += [f"Description {number}."] if kind != "text" and described else []
    assert [reading.text[block.start : block.end] for block in reading.blocks] == expected
    assert Reading.from_dict(reading.to_dict()) == reading
