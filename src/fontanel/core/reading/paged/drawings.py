"""Which of the lines and areas drawn on a page make up a drawing.

Charts, plans and diagrams have many slanted or curved lines close to each other. Rules, frames,
tables and coloured boxes behind text have few.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import reduce
from typing import NamedTuple

from fontanel.core.reading.paged.figures import Box

#: Paths closer than this in points belong together.
_NEAR = 8.0
#: A drawing is at least this wide and high in points, has so many paths and slanted lines.
_MIN_SIDE, MIN_PATHS, _MIN_SLANTED = 72.0, 4, 12
#: What covers more of a page is its background.
_WHOLE_PAGE = 0.85
#: A box of which text or pictures cover more is a table, or their frame.
_MAX_FILLED = 0.4
#: Labels are this near to a drawing in points, and have so many characters, or are figures.
_NEAR_LABEL, _MAX_LABEL = 24.0, 30
#: A page with more groups of paths has no drawing, but marks all over it.
_MAX_GROUPS = 200


class Path(NamedTuple):
    """A path on a page: its box in points, its lines, and those slanted or curved."""

    left: float
    bottom: float
    right: float
    top: float
    lines: int
    slanted: int


def find_drawings(
    paths: Sequence[Path], width: float, height: float
) -> Iterator[tuple[Box, list[Path]]]:
    """Yield the box of each drawing on a page and its paths, from top to bottom.

    Args:
        paths: In the coordinates of the page as displayed.
        width: Of the page, in points.
        height: Of the page, in points.
    """
    shown = [
        path
        for path in paths
        if 0 <= path.left <= path.right <= width
        and 0 <= path.bottom <= path.top <= height
        and not _is_whole(path[:4], width, height)
    ]
    found = []
    for group in _groups(shown):
        box = reduce(_around, (path[:4] for path in group))
        large = min(box[2] - box[0], box[3] - box[1]) >= _MIN_SIDE
        drawn = len(group) >= MIN_PATHS and sum(path.slanted for path in group) >= _MIN_SLANTED
        if large and drawn and not _is_whole(box, width, height):
            found.append((box, group))
    yield from sorted(found, key=lambda one: (-one[0][3], one[0][0]))


def is_filled(box: Box, parts: Iterable[Box]) -> bool:
    """Return whether parts of a page, such as its text, cover so much of a box that it is theirs.

    Then the box is a table or the frame of a picture.
    """
    left, bottom, right, top = box
    covered = sum(
        max(0.0, min(right, part[2]) - max(left, part[0]))
        * max(0.0, min(top, part[3]) - max(bottom, part[1]))
        for part in parts
    )
    return covered > _MAX_FILLED * (right - left) * (top - bottom)


def with_labels(box: Box, texts: Iterable[tuple[Box, str]], width: float, height: float) -> Box:
    """Return a drawing's box with the short texts at its sides, such as the labels of axes."""
    left, bottom, right, top = box
    near = (
        max(0.0, left - _NEAR_LABEL),
        max(0.0, bottom - _NEAR_LABEL),
        min(width, right + _NEAR_LABEL),
        min(height, top + _NEAR_LABEL),
    )
    labels = [
        place
        for place, words in texts
        if near[0] <= place[0] <= place[2] <= near[2]
        and near[1] <= place[1] <= place[3] <= near[3]
        and (len(words) <= _MAX_LABEL or sum(map(str.isalpha, words)) < len(words) / 3)
    ]
    return reduce(_around, labels, box)


def contains(box: Box, part: Box) -> bool:
    """Return whether the middle of a part of a page is in a box."""
    across, up = (part[0] + part[2]) / 2, (part[1] + part[3]) / 2
    return box[0] <= across <= box[2] and box[1] <= up <= box[3]


def _is_whole(box: Sequence[float], width: float, height: float) -> bool:
    left, bottom, right, top = box
    return (right - left) * (top - bottom) > _WHOLE_PAGE * width * height


def _groups(paths: Sequence[Path]) -> Iterator[list[Path]]:
    """Yield paths whose boxes touch each other or nearly so; nothing if there are too many."""
    groups: list[tuple[Box, list[Path]]] = []
    for path in paths:
        box, members = path[:4], [path]
        # A box that has grown may touch further groups.
        while near := [group for group in groups if _touch(box, group[0])]:
            groups = [group for group in groups if not _touch(box, group[0])]
            for other, more in near:
                box = _around(box, other)
                more, members = sorted((more, members), key=len)
                members.extend(more)
        groups.append((box, members))
        if len(groups) > _MAX_GROUPS:
            return
    yield from (members for _, members in groups)


def _touch(one: Box, other: Box) -> bool:
    return (
        one[0] <= other[2] + _NEAR
        and other[0] <= one[2] + _NEAR
        and one[1] <= other[3] + _NEAR
        and other[1] <= one[3] + _NEAR
    )


def _around(one: Box, other: Box) -> Box:
    return (
        min(one[0], other[0]),
        min(one[1], other[1]),
        max(one[2], other[2]),
        max(one[3], other[3]),
    )
