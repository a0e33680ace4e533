"""Charts and plans in a PDF that are drawn with lines, and what only looks like one."""

from __future__ import annotations

import io
import random
from collections.abc import Callable
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from reportlab.pdfgen.canvas import Canvas

from fontanel.core.reading import Reading, read
from fontanel.core.reading.paged.drawings import Path, find_drawings
from fontanel.core.reading.pictures import PictureText
from fontanel.core.reading.registry import take_pictures

WORDS = "The depth of the fairway over the year, as sounded by the harbour office each month."
WIDTH, HEIGHT = 600, 800


def drawn(*draw: Callable[[Canvas], None], rotation: int = 0) -> bytes:
    """Return a PDF with a page of each function."""
    target = io.BytesIO()
    canvas = Canvas(target, pagesize=(WIDTH, HEIGHT))
    for one in draw:
        canvas.setPageRotation(rotation)
        canvas.drawString(60, 540, WORDS)
        one(canvas)
        canvas.drawString(60, 100, "Soundings are repeated after every storm in the roads.")
        canvas.showPage()
    canvas.save()
    return target.getvalue()


def chart(canvas: Canvas, last: float = 320.0) -> None:
    """Draw two axes with labels and a curve in red."""
    canvas.line(100, 200, 400, 200)
    canvas.line(100, 200, 100, 400)
    for number in range(6):
        canvas.line(100 + 60 * number, 200, 100 + 60 * number, 194)
        canvas.drawString(96 + 60 * number, 182, str(number))
    canvas.setStrokeColorRGB(1, 0, 0)
    canvas.setLineWidth(6)
    points = [(100, 220), (160, 280), (220, 250), (280, 360), (340, 300), (400, last)]
    for (left, low), (right, high) in pairwise(points):
        canvas.bezier(left, low, left + 30, low + 40, right - 30, high - 40, right, high)
        canvas.circle(right, high, 4)
    canvas.setStrokeColorRGB(0, 0, 0)
    canvas.setLineWidth(1)


def in_form(canvas: Canvas) -> None:
    """Draw the chart inside a form, at half its size."""
    canvas.beginForm("chart")
    chart(canvas)
    canvas.endForm()
    canvas.translate(50, 150)
    canvas.scale(0.5, 0.5)
    canvas.doForm("chart")


def table(canvas: Canvas) -> None:
    for row in range(7):
        canvas.line(60, 200 + 30 * row, 500, 200 + 30 * row)
        for column in range(4):
            canvas.drawString(66 + 110 * column, 208 + 30 * row, f"Berth {row} {column}")
    for column in range(5):
        canvas.line(60 + 110 * column, 200, 60 + 110 * column, 380)


def boxed_text(canvas: Canvas) -> None:
    """Draw paragraphs in boxes with round corners, close to each other."""
    for number in range(4):
        canvas.roundRect(55, 180 + 80 * number, 480, 76, 10)
        for line in range(5):
            canvas.drawString(60, 242 + 80 * number - 13 * line, WORDS)


def background(canvas: Canvas) -> None:
    for number in range(30):
        canvas.line(0, 20 * number, WIDTH, 20 * number + 210)


def places(reading: Reading, text: str) -> tuple[float, float, float, float]:
    start = reading.text.index(text)
    (place,) = [place for place in reading.places if place.start == start]
    return place.left, place.top, place.right, place.bottom


@pytest.mark.parametrize("rotation", [0, 90, 180, 270])
def test_a_chart_is_found_and_shown_at_its_place(rotation: int) -> None:
    data = drawn(chart, rotation=rotation)
    (one,) = read(data, "depths.pdf").pictures
    texts = {one.sha256: PictureText("eyes", "A curve that rises in April.")}
    reading = read(data, "depths.pdf", pictures=texts)
    left, top, right, bottom = places(reading, "A curve that rises in April.")
    # With its labels, in points.
    size = [(right - left) * WIDTH, (bottom - top) * HEIGHT]
    assert size == pytest.approx([318, 219] if rotation % 180 == 0 else [219, 318], abs=3)
    taken = take_pictures(data, "application/pdf", [one.sha256])
    with Image.open(io.BytesIO(taken[one.sha256])) as image:
        assert image.size == pytest.approx((one.width, one.height), abs=2)
        raw = image.convert("RGB").tobytes()
    pixels = list(zip(raw[::3], raw[1::3], raw[2::3], strict=True))
    red = sum(r > 180 and g < 90 and b < 90 for r, g, b in pixels)
    assert 0.005 < red / len(pixels) < 0.2


def test_a_drawing_stands_between_the_text_around_it() -> None:
    data = drawn(chart)
    (one,) = read(data, "depths.pdf").pictures
    reading = read(data, "depths.pdf", pictures={one.sha256: PictureText("eyes", "A curve.")})
    order = [WORDS, "A curve.", "Soundings are repeated"]
    found = [reading.text.index(part) for part in order]
    assert found == sorted(found)


def test_a_drawing_in_a_form_is_where_the_form_is_drawn() -> None:
    data = drawn(in_form)
    (one,) = read(data, "depths.pdf").pictures
    reading = read(data, "depths.pdf", pictures={one.sha256: PictureText("eyes", "A curve.")})
    left, top, right, bottom = places(reading, "A curve.")
    assert left == pytest.approx((50 + 48) / WIDTH, abs=0.02)
    assert bottom == pytest.approx(1 - (150 + 91) / HEIGHT, abs=0.02)
    assert right - left == pytest.approx(0.26, abs=0.02)
    assert bottom - top == pytest.approx(0.15, abs=0.02)


@pytest.mark.parametrize("draw", [table, boxed_text, background])
def test_tables_boxes_and_backgrounds_are_not_drawings(draw: Callable[[Canvas], None]) -> None:
    assert read(drawn(draw), "depths.pdf").pictures == ()


def test_a_drawing_on_many_pages_is_a_logo_and_a_changed_one_another() -> None:
    assert read(drawn(*[chart] * 4), "depths.pdf").pictures == ()
    once = read(drawn(chart, chart), "depths.pdf").pictures
    assert len(once) == 1
    changed = read(drawn(chart, lambda canvas: chart(canvas, 340.0)), "depths.pdf").pictures
    assert len(changed) == 2
    assert once[0] in changed


BOXES = st.tuples(*[st.floats(0, 400)] * 2, *[st.floats(0, 150)] * 2)


@given(st.lists(BOXES, max_size=40), st.randoms())
def test_paths_belong_to_the_same_drawings_in_any_order(
    boxes: list[tuple[float, ...]], order: random.Random
) -> None:
    paths = [
        Path(left, bottom, left + wide, bottom + high, 20, 20) for left, bottom, wide, high in boxes
    ]
    found = {box: sorted(group) for box, group in find_drawings(paths, WIDTH, HEIGHT)}
    for box, group in found.items():
        assert all(box[0] <= path.left <= path.right <= box[2] for path in group)
        assert all(box[1] <= path.bottom <= path.top <= box[3] for path in group)
    order.shuffle(paths)
    assert {box: sorted(group) for box, group in find_drawings(paths, WIDTH, HEIGHT)} == found
