"""Pages as pictures: PDFs and multi-page pictures of any shape, mode or damage."""

from __future__ import annotations

import io

import pytest
from PIL import Image

from fontanel.core.reading import ReadingFailed
from fontanel.core.reading import detect as types
from fontanel.core.reading.paged.drawing import draw_page
from tests.core import samples
from tests.core.reading.paged.test_notes_and_links import drawn


def picture(
    kind: str, *colours: str, size: tuple[int, int] = (60, 90), mode: str = "RGB", **more: object
) -> bytes:
    """A picture with a page of each colour."""
    pages = [Image.new("RGB", size, colour).convert(mode) for colour in colours]
    out = io.BytesIO()
    kept: dict[str, object] = (
        {"save_all": True, "append_images": pages[1:]} if len(pages) > 1 else {}
    )
    pages[0].save(out, kind, **kept, **more)
    return out.getvalue()


def shown(data: bytes, media_type: str, page: int = 1, width: int = 120) -> Image.Image:
    return Image.open(io.BytesIO(draw_page(data, media_type, page, width)))


def failure(data: bytes, media_type: str, page: int = 1) -> str:
    with pytest.raises(ReadingFailed) as failed:
        draw_page(data, media_type, page, 120)
    return failed.value.code


def test_a_page_has_the_width_that_was_asked_for_and_its_own_shape() -> None:
    page = shown(picture("PNG", "red"), types.PNG)
    assert (page.format, page.size, page.getpixel((5, 5))) == ("PNG", (120, 180), (255, 0, 0))
    assert shown(picture("PNG", "red"), types.PNG, width=30).size == (30, 45)


def test_each_page_of_a_scan_can_be_drawn() -> None:
    data = picture("TIFF", "red", "lime", "blue")
    assert [shown(data, types.TIFF, page).getpixel((9, 9)) for page in (1, 2, 3)] == [
        (255, 0, 0),
        (0, 255, 0),
        (0, 0, 255),
    ]
    assert [failure(data, types.TIFF, page) for page in (0, 4)] == ["no_text", "no_text"]


@pytest.mark.parametrize("mode", ["1", "L", "LA", "P", "RGBA", "CMYK", "I;16"])
def test_every_mode_of_colour_is_drawn_on_white(mode: str) -> None:
    if mode in ("LA", "RGBA"):
        out = io.BytesIO()
        Image.new("RGBA", (60, 90), (0, 0, 0, 0)).convert(mode).save(out, "PNG")
        assert shown(out.getvalue(), types.PNG).getpixel((9, 9)) == (255, 255, 255)
    elif mode == "I;16":
        out = io.BytesIO()
        Image.new("I;16", (60, 90), 0).save(out, "PNG")
        assert shown(out.getvalue(), types.PNG).mode == "RGB"
    else:
        kind, media_type = ("TIFF", types.TIFF) if mode == "CMYK" else ("PNG", types.PNG)
        assert shown(picture(kind, "white", mode=mode), media_type).convert("RGB").getpixel(
            (9, 9)
        ) == (255, 255, 255)


def test_a_picture_that_was_taken_sideways_stands_upright() -> None:
    turned = Image.Exif()
    turned[0x0112] = 6
    assert shown(picture("JPEG", "red", size=(90, 60), exif=turned), types.JPEG).size == (120, 180)


def test_a_very_long_page_stays_within_bounds() -> None:
    assert shown(picture("PNG", "red", size=(2, 3000)), types.PNG, width=400).height == 8000


def test_pages_of_a_pdf() -> None:
    data = drawn(lambda page: page.drawString(90, 700, "Berth 7 is closed."))
    page = shown(data, types.PDF, 1, 200)
    assert page.width == 200
    assert len(set(page.convert("L").tobytes())) > 2
    assert failure(data, types.PDF, 99) == "no_text"
    assert failure(data[:60], types.PDF) == "damaged"


@pytest.mark.parametrize(
    ("kind", "media_type"),
    [("PNG", types.PNG), ("JPEG", types.JPEG), ("TIFF", types.TIFF), ("WEBP", types.WEBP)],
)
def test_a_picture_that_is_cut_short_says_so(kind: str, media_type: str) -> None:
    data = samples.drawn(["Berth 7"], kind=kind, width=400)
    assert failure(data[: len(data) // 3], media_type) == "damaged"
    assert failure(b"", media_type) == "damaged"


def test_what_has_no_pages_is_refused() -> None:
    assert failure(b"# Notes\n", types.MARKDOWN) == "unsupported"
