"""Ruled tables: rules form a grid, and lines of text fall into its cells."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass

from fontanel.core.reading.paged.lines import Line, PageLines

#: Points within which two rules are one, and beyond which a rule is a filled area.
_NEAR = 2.5
_THIN = 2.5
#: The maximum distance of a table's rules in points, and how many frames back to look.
_FARTHEST = 200.0
_FRAMES_BACK = 8


@dataclass(slots=True)
class RuledTable:
    """A table's rows of cells, and the lines of text behind them, in reading order."""

    rows: list[list[str]]
    header_rows: int
    lines: list[Line]


def ruled_tables(page: PageLines) -> list[RuledTable]:
    """Return the ruled tables of a page, with text in two or more rows and columns."""
    across, down = _rules(page)
    tables: list[RuledTable] = []
    for left, bottom, right, top in _frames(across, down):
        ys = _distinct(
            [
                y
                for x0, x1, y in across
                if x0 < right and x1 > left and bottom - _NEAR <= y <= top + _NEAR
            ]
        )
        xs = _distinct(
            [
                x
                for y0, y1, x in down
                if y0 < top and y1 > bottom and left - _NEAR <= x <= right + _NEAR
            ]
        )
        inside = [
            line
            for line in page.lines
            if bottom < (line.top + line.bottom) / 2 < top
            and line.left < right
            and line.right > left
        ]
        if len(ys) < 3 or len(inside) < 2:
            continue
        if len(xs) < 3:
            xs = _columns(inside, left, right)
            if len(xs) < 3:
                continue
        # The outer sides need not be drawn.
        xs = [left, *xs] if xs[0] - left > 8 else xs
        xs = [*xs, right] if right - xs[-1] > 8 else xs
        table = _filled(inside, xs, sorted(ys, reverse=True))
        if table is not None:
            tables.append(table)
    return tables


def _rules(
    page: PageLines,
) -> tuple[list[tuple[float, float, float]], list[tuple[float, float, float]]]:
    """Return horizontal (left, right, y) and vertical (bottom, top, x) rules."""
    across: list[tuple[float, float, float]] = []
    down: list[tuple[float, float, float]] = []
    for left, bottom, right, top in page.rules:
        if top - bottom <= _THIN:
            across.append((left, right, (top + bottom) / 2))
        elif right - left <= _THIN:
            down.append((bottom, top, (left + right) / 2))
        elif top - bottom < page.height * 0.9:
            across += [(left, right, bottom), (left, right, top)]
            down += [(bottom, top, left), (bottom, top, right)]
    return across, down


def _frames(
    across: list[tuple[float, float, float]], down: list[tuple[float, float, float]]
) -> list[tuple[float, float, float, float]]:
    """Return frames of rules that overlap and follow each other downwards.

    Where the page has vertical rules, they must connect them.
    """
    bands = _bands(down)
    lows = [low for low, _ in bands]
    frames: list[list[float]] = []
    for left, right, y in sorted(across, key=lambda rule: -rule[2]):
        # Bands are separate and sorted upwards, so that the last one that begins below reaches
        # highest.
        stored = bisect_right(lows, y + _NEAR) - 1
        reach = bands[stored][1] + _NEAR if stored >= 0 else y + _NEAR if bands else y + _FARTHEST
        for frame in frames[: -_FRAMES_BACK - 1 : -1]:
            first, above, last, _ = frame
            if above - y >= _FARTHEST or (above > reach and above - y >= _NEAR):
                continue
            overlap = (right if right < last else last) - (left if left > first else first)
            if overlap > 0.3 * (right - left) or overlap > 0.3 * (last - first):
                frame[0], frame[1], frame[2] = min(first, left), min(above, y), max(last, right)
                break
        else:
            frames.append([left, y, right, y])
    return [(left, bottom, right, top) for left, bottom, right, top in frames if top - bottom > 8]


def _bands(down: list[tuple[float, float, float]]) -> list[tuple[float, float]]:
    """The stretches of the page's height that rules running down fill without a break."""
    bands: list[tuple[float, float]] = []
    for bottom, top, _ in sorted(down):
        if bands and bottom <= bands[-1][1] + _NEAR:
            bands[-1] = bands[-1][0], max(bands[-1][1], top)
        else:
            bands.append((bottom, top))
    return bands


def _distinct(places: list[float]) -> list[float]:
    out: list[float] = []
    for place in sorted(places):
        if not out or place - out[-1] > _NEAR:
            out.append(place)
    return out


def _columns(lines: list[Line], left: float, right: float) -> list[float]:
    """Return columns without vertical rules.

    Where cells of several lines begin, uncrossed.
    """
    starts = _distinct([cell.left for line in lines if len(line.cells) > 1 for cell in line.cells])
    kept = [left]
    for start in starts:
        holders = [line for line in lines if any(abs(cell.left - start) < 4 for cell in line.cells)]
        crossing = [
            line
            for line in lines
            if any(cell.left < start - 4 and cell.right > start + 4 for cell in line.cells)
        ]
        if (
            start > left + 12
            and len(holders) >= 2
            and len(crossing) <= 0.1 * len(lines)
            and start - kept[-1] > 8
        ):
            kept.append(start - 2)
    return [*kept, right]


def _filled(lines: list[Line], xs: list[float], ys: list[float]) -> RuledTable | None:
    rows = [[""] * (len(xs) - 1) for _ in range(len(ys) - 1)]
    used: list[Line] = []
    downwards = [-y for y in ys]
    for line in lines:
        row = bisect_right(downwards, -(line.top + line.bottom) / 2) - 1
        if not 0 <= row < len(rows):
            continue
        used.append(line)
        for cell in line.cells:
            # A cell of text belongs to the column that it overlaps most.
            centre = min(cell.left + 6, (cell.left + cell.right) / 2)
            column = max(0, bisect_right(xs, centre) - 1)
            if centre < xs[0] - _NEAR or column >= len(xs) - 1:
                continue
            before = rows[row][column]
            joint = "" if line.broken and not before else " "
            rows[row][column] = f"{before}{joint}{cell.text}".strip()
    kept = [row for row in rows if any(row)]
    if len(kept) < 2 or sum(1 for row in kept if sum(map(bool, row)) > 1) < 2:
        return None
    columns = [index for index in range(len(xs) - 1) if any(row[index] for row in kept)]
    if len(columns) < 2:
        return None
    kept = [[row[index] for index in columns] for row in kept]
    header = 1 if used[0].bold or all(kept[0]) else 0
    return RuledTable(kept, header, used)
