"""Direct PDFium calls return what pypdfium2's checked ones do."""

from __future__ import annotations

import ctypes
from collections.abc import Iterator

import pypdfium2 as pdfium
import pypdfium2.raw as raw
import pytest
from reportlab.pdfgen.canvas import Canvas

from fontanel.core.reading.paged import pdfium_calls as calls
from tests.core.reading.paged.test_notes_and_links import drawn


def page_of_everything(page: Canvas) -> None:
    page.setFont("Helvetica-Bold", 14)
    page.drawString(60, 760, "Berths and depths")
    page.setFont("Courier", 10)
    page.drawString(60, 730, "north 7 m")
    page.drawString(260, 730, "south 4 m")
    page.rect(50, 720, 300, 30)
    page.line(50, 700, 350, 700)
    page.linkURL("https://tables.skerrow.example/2026", (60, 755, 160, 772), relative=0)
    page.bookmarkPage("top")
    page.linkRect("", "top", (60, 725, 160, 740))


@pytest.fixture(scope="module")
def document() -> Iterator[pdfium.PdfDocument]:
    result = pdfium.PdfDocument(drawn(page_of_everything))
    yield result
    result.close()


@pytest.fixture(scope="module")
def page(document: pdfium.PdfDocument) -> pdfium.PdfPage:
    return document[0]


@pytest.fixture(scope="module")
def text(page: pdfium.PdfPage) -> pdfium.PdfTextPage:
    return page.get_textpage()


def test_boxes_of_runs(text: pdfium.PdfTextPage) -> None:
    numbers = (ctypes.c_double * 4)()
    left, top, right, bottom = calls.places_in(numbers)
    handle, count = calls.handle_of(text.raw), text.count_chars()
    assert calls.count_rects(handle, 0, count) == text.count_rects(0, count) > 1
    for index in range(text.count_rects(0, count)):
        assert calls.get_rect(handle, index, left, top, right, bottom)
        # pypdfium2 gives left, bottom, right, top.
        assert (numbers[0], numbers[3], numbers[2], numbers[1]) == text.get_rect(index)


def test_boxes_sizes_and_origins_of_characters(text: pdfium.PdfTextPage) -> None:
    numbers, x, y = (ctypes.c_double * 4)(), ctypes.c_double(), ctypes.c_double()
    one, two, three, four = calls.places_in(numbers)
    handle = calls.handle_of(text.raw)
    for index in range(text.count_chars()):
        calls.get_char_box(handle, index, one, three, two, four)
        assert tuple(numbers) == text.get_charbox(index)
        assert calls.get_font_size(handle, index) == raw.FPDFText_GetFontSize(text.raw, index)
        assert calls.get_origin(handle, index, one, two) == raw.FPDFText_GetCharOrigin(
            text.raw, index, x, y
        )
        assert (numbers[0], numbers[1]) == (x.value, y.value)


def test_fonts_differ_as_the_text_does(text: pdfium.PdfTextPage) -> None:
    handle, texts = calls.handle_of(text.raw), text.get_text_range()
    fonts = [
        calls.get_font(calls.get_text_object(handle, texts.index(word)))
        for word in ("Berths", "depths", "north", "south")
    ]
    assert all(fonts)
    assert fonts[0] == fonts[1]
    assert fonts[2] == fonts[3] != fonts[0]


def test_objects_of_a_page_and_their_bounds(page: pdfium.PdfPage) -> None:
    numbers = (ctypes.c_float * 4)()
    handle = calls.handle_of(page.raw)
    objects = list(page.get_objects(max_depth=1))
    assert {item.type for item in objects} == {raw.FPDF_PAGEOBJ_TEXT, raw.FPDF_PAGEOBJ_PATH}
    for index, existing in enumerate(objects):
        item = calls.get_object(handle, index)
        assert calls.get_object_type(item) == existing.type
        assert calls.get_object_bounds(item, *calls.places_in(numbers))
        assert tuple(numbers) == existing.get_bounds()


def test_links_of_a_page(page: pdfium.PdfPage, document: pdfium.PdfDocument) -> None:
    position, link, sides = ctypes.c_int(0), ctypes.c_void_p(), (ctypes.c_float * 4)()
    handle, buffer = calls.handle_of(page.raw), ctypes.create_string_buffer(200)
    whole = ctypes.cast(document.raw, ctypes.c_void_p).value
    results: list[object] = []
    while calls.next_link(handle, ctypes.byref(position), ctypes.byref(link)):
        assert calls.get_link_rect(link.value, sides)
        action = calls.get_link_action(link.value)
        if action and calls.get_action_type(action) == raw.PDFACTION_URI:
            calls.get_address(whole, action, buffer, ctypes.c_ulong(200))
            results.append(buffer.value)
        else:
            results.append(calls.get_dest_page(whole, calls.get_link_dest(whole, link.value)))
    assert results == [b"https://tables.skerrow.example/2026", 0]
