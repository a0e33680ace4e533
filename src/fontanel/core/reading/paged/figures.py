"""Pictures on pages, and where they come among the text."""

from __future__ import annotations

from typing import NamedTuple

from fontanel.core.reading.model import LineBox, Picture, ReadingBuilder
from fontanel.core.reading.paged.lines import Line

#: Left, bottom, right and top, in points.
Box = tuple[float, float, float, float]


class PlacedPicture(NamedTuple):
    """A picture and its box on the page."""

    picture: Picture
    left: float
    bottom: float
    right: float
    top: float


def is_below(line: Line, placed: PlacedPicture) -> bool:
    """Return whether a line stands below a picture, in its column."""
    tolerance = 0.1 * (placed.top - placed.bottom)
    beside = line.left >= placed.right or placed.left >= line.right
    return not beside and line.top < placed.bottom + tolerance


def add_picture(
    builder: ReadingBuilder, placed: PlacedPicture, page: int, size: tuple[float, float]
) -> None:
    """Add a picture's place to a reading.

    Args:
        size: Width and height of its page.
    """
    width, height = size
    box = (
        placed.left / width,
        1 - placed.top / height,
        placed.right / width,
        1 - placed.bottom / height,
    )
    builder.figure("", [LineBox(0, 0, page, box)], placed.picture, page=page)
