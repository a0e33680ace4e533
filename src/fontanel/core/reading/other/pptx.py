"""PPTX (ISO/IEC 29500) through python-pptx.

Titles, text, tables, alt texts and notes.
"""

from __future__ import annotations

import io
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import pptx
from pptx.enum.shapes import MSO_SHAPE_TYPE, PP_PLACEHOLDER
from pptx.util import Length

from fontanel.core.reading.markup.xml import attribute, local_name, parse_xml
from fontanel.core.reading.model import LineBox, ReadingBuilder, ReadingFailed
from fontanel.core.reading.other.archive import open_archive
from fontanel.core.reading.picture_files import picture_of

#: Placeholders that repeat on every slide.
_RUNNING = {
    PP_PLACEHOLDER.DATE,
    PP_PLACEHOLDER.FOOTER,
    PP_PLACEHOLDER.SLIDE_NUMBER,
    PP_PLACEHOLDER.HEADER,
}
_MAX_DEPTH = 20


def read_pptx(data: bytes) -> ReadingBuilder:
    """Read slides in order: the title, then shapes from top to bottom.

    Raises:
        ReadingFailed: damaged, encrypted or too_large.
    """
    open_archive(data)
    try:
        deck = pptx.Presentation(io.BytesIO(data))
        builder = ReadingBuilder(title=(deck.core_properties.title or "").strip(), unit="slide")
        width, height = float(deck.slide_width or 0), float(deck.slide_height or 0)
        builder.shape = round(width / height, 4) if width > 0 and height > 0 else None
        for number, slide in enumerate(deck.slides, start=1):
            builder.here, builder.pages = {"page": number}, number
            if slide._element.get("show") in ("0", "false"):
                builder.warnings.append(f"The hidden slide {number} was left out")
                continue
            _add_slide(builder, slide, _Frame(number, width, height))
    except Exception as error:  # python-pptx raises anything on damaged archives
        raise ReadingFailed(
            "damaged", "The presentation is damaged. Save it again, and add the new file."
        ) from error
    return builder


@dataclass(frozen=True, slots=True)
class _Frame:
    """A slide, by its number from 1, and its size in EMU."""

    number: int
    width: float
    height: float

    def box(self, shape: Any) -> list[LineBox]:
        """Return the box of a shape on the slide, for all of its text."""
        sides = shape.left, shape.top, shape.width, shape.height
        if None in sides or self.width <= 0 or self.height <= 0:
            return []
        left, top = shape.left / self.width, shape.top / self.height
        return [
            LineBox(
                0,
                0,
                self.number,
                (left, top, left + shape.width / self.width, top + shape.height / self.height),
            )
        ]


def _add_slide(builder: ReadingBuilder, slide: Any, frame: _Frame) -> None:
    title = slide.shapes.title
    if title is not None and title.has_text_frame and _text(title).strip():
        builder.heading(_text(title), 1, frame.box(title))
    else:
        builder.heading(f"Slide {frame.number}", 1)
    shapes = sorted(
        _shapes(slide.shapes, 0), key=lambda shape: (_points(shape.top), _points(shape.left))
    )
    for shape in shapes:
        if title is None or shape.shape_id != title.shape_id:
            _add_shape(builder, shape, frame.box(shape))
    if (
        slide.has_notes_slide
        and (notes := slide.notes_slide.notes_text_frame)
        and notes.text.strip()
    ):
        builder.heading("Speaker notes", 2)
        for paragraph in notes.paragraphs:
            builder.paragraph(_runs(paragraph))


def _points(length: Length | None) -> float:
    # Steps of half an inch: shapes roughly in a row are read from left to right.
    return 0.0 if length is None else round(length.inches * 2)


def _shapes(shapes: Any, depth: int) -> Iterator[Any]:
    for shape in shapes:
        if shape.shape_type == MSO_SHAPE_TYPE.GROUP:
            if depth < _MAX_DEPTH:
                yield from _shapes(shape.shapes, depth + 1)
        elif not (shape.is_placeholder and shape.placeholder_format.type in _RUNNING):
            yield shape


def _add_shape(builder: ReadingBuilder, shape: Any, box: list[LineBox]) -> None:
    if getattr(shape, "has_table", False):
        rows: list[list[str]] = []
        for row in shape.table.rows:
            # A cell merged with the row above repeats its text: rows are read independently.
            above = rows[-1] if rows else []
            rows.append(
                [
                    above[n] if cell._tc.vMerge and above else cell.text
                    for n, cell in enumerate(row.cells)
                ]
            )
        builder.table(rows, 1 if shape.table.first_row and len(rows) > 1 else 0, box)
    elif getattr(shape, "has_chart", False):
        _add_chart(builder, shape.chart, box)
    elif items := _diagram(shape):
        builder.list(items, box)
    elif shape.shape_type == MSO_SHAPE_TYPE.PICTURE:
        data = _picture_data(shape)
        about = shape._element._nvXxPr.cNvPr.get("descr") or ""
        builder.figure(about, box, picture_of(data) if data else None, data)
    elif shape.has_text_frame:
        paragraphs = [p for p in shape.text_frame.paragraphs if _runs(p).strip()]
        if len(paragraphs) > 1:
            builder.list(["  " * p.level + "- " + _runs(p) for p in paragraphs], box)
        elif paragraphs:
            builder.paragraph(_runs(paragraphs[0]), box)


def _picture_data(shape: Any) -> bytes:
    """Return the bytes of a picture; empty where it is linked, or missing."""
    try:
        return bytes(shape.image.blob)
    except (AttributeError, KeyError, ValueError):
        return b""


def _diagram(shape: Any) -> list[str]:
    """Return the text of a diagram's boxes, which are in a part of their own."""
    text_ = next((node for node in shape._element.iter() if local_name(node) == "relIds"), None)
    if text_ is None:
        return []
    root = parse_xml(shape.part.related_part(attribute(text_, "dm") or "").blob)
    texts = []
    for point in root.iter():
        if local_name(point) == "pt":
            texts.append(
                " ".join(str(node.text or "") for node in point.iter() if local_name(node) == "t")
            )
    return [f"- {text}" for text in texts if text.strip()]


def _add_chart(builder: ReadingBuilder, chart: Any, box: list[LineBox]) -> None:
    """A chart reads as the table of its numbers."""
    if chart.has_title and chart.chart_title.has_text_frame:
        builder.paragraph(chart.chart_title.text_frame.text)
    try:
        plot = chart.plots[0]
        series = list(plot.series)
        rows = [["", *(one.name or "" for one in series)]]
        for index, category in enumerate(plot.categories):
            rows.append([str(category), *(_number(list(one.values), index) for one in series)])
    except (IndexError, ValueError, AttributeError, KeyError):
        builder.figure("")
        return
    builder.table(rows, 1, box)


def _number(values: list[float | None], index: int) -> str:
    value = values[index] if index < len(values) else None
    return "" if value is None else f"{value:g}"


def _text(shape: Any) -> str:
    return " ".join(_runs(paragraph) for paragraph in shape.text_frame.paragraphs)


def _runs(paragraph: Any) -> str:
    """A paragraph's text; a break inside it is a blank."""
    return str(paragraph.text).replace("\v", " ")
