"""Lines of text with their positions on a page, from a text layer or recognition.

Pieces of a line are joined, columns put in reading order, running headers and footers removed.
"""

from __future__ import annotations

import itertools
import re
from collections import Counter
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from fontanel.core.reading.paged.figures import PlacedPicture

_DIGITS = re.compile(r"\d+|\b[ivxl]+\b")
_PAGE_NUMBER = re.compile(
    r"^(?:page |- ?)?(?:\d{1,5}|[ivxlc]{1,7})(?: ?-| (?:of|/) \d{1,5})?$", re.I
)
#: Figures set above the line, as marks of footnotes are.
RAISED = "⁰¹²³⁴⁵⁶⁷⁸⁹"
HYPHENS = "-\u00ad\u2010"
#: What a line of code that was too long for the page ends with, and the last letters of that.
WRAPPED = re.compile(r"\s*(?:←-|[↩↪⏎↵])$")
WRAP_ENDS = "-↩↪⏎↵"
_FIRST_WORD = re.compile(r"[^\W\d_]+(?:-[^\W\d_]+)*")
_LAST_WORD = re.compile(rf"([^\W\d_]+)[{HYPHENS}]?$")
#: Anything around words but letters, and hyphens within words, becomes a blank.
_NO_LETTERS = bytes(
    code if code > 127 or chr(code).isalpha() or chr(code) == "-" else 32 for code in range(256)
)
#: The share of a page's height that counts as its edge, with running lines.
_EDGE = 0.1


@dataclass(slots=True)
class Cell:
    """A run of text within a line, apart from its neighbours by a wide gap."""

    left: float
    right: float
    text: str


@dataclass(slots=True)
class Line:
    """A line of text, in points from the page's bottom left with y growing upwards.

    `baseline` is where the letters stand; `fixed`: it is monospaced; `broken`: its last word
    continues on the next line, and its hyphen is removed; `whole`: such a word is one word, not a
    hyphenated compound. `left`, `right` and `text` are derived from the cells: call `settle` after
    changing them.
    """

    page: int
    cells: list[Cell]
    baseline: float
    bottom: float
    top: float
    size: float
    bold: bool = False
    fixed: bool = False
    broken: bool = False
    confidence: float | None = None
    whole: bool = True
    left: float = field(init=False)
    right: float = field(init=False)
    text: str = field(init=False)

    def __post_init__(self) -> None:
        self.settle()

    def settle(self) -> None:
        """Tell the line's ends and text from its cells."""
        cells = self.cells
        first = last = cells[0]
        if len(cells) == 1:
            self.text = first.text
        else:
            last = cells[-1]
            self.text = " ".join([cell.text for cell in cells])
        self.left, self.right = first.left, last.right


@dataclass(slots=True)
class PageLines:
    """A page's lines in reading order.

    `rules` are drawn lines: (left, bottom, right, top).
    """

    number: int
    width: float
    height: float
    lines: list[Line] = field(default_factory=list)
    rules: list[tuple[float, float, float, float]] = field(default_factory=list)
    pictures: list[PlacedPicture] = field(default_factory=list)


def joined(lines: list[Line]) -> list[Line]:
    """Join pieces on one baseline into lines.

    A table row's cells, a number and its title.

    The cells of a table's multi-line row come cell by cell, so that the rest of a row may come a
    few lines later.
    """
    out: list[Line] = []
    for line in lines:
        for earlier in reversed(out[-6:]):
            if (
                abs(earlier.baseline - line.baseline) < 0.35 * line.size
                and line.left >= earlier.right - 1
            ):
                gap = line.left - earlier.right
                if gap > max(line.size, earlier.size) * 1.1:
                    earlier.cells += line.cells
                else:
                    last, first = earlier.cells[-1], line.cells[0]
                    blank = "" if gap < 0.12 * line.size else " "
                    last.text, last.right = f"{last.text}{blank}{first.text}", first.right
                    earlier.cells += line.cells[1:]
                earlier.top, earlier.bottom = (
                    max(earlier.top, line.top),
                    min(earlier.bottom, line.bottom),
                )
                earlier.broken = line.broken
                earlier.settle()
                break
        else:
            out.append(line)
    return out


def join_words(pages: list[PageLines]) -> None:
    """Distinguish hyphenated words from compounds such as "read-only".

    By how the rest of the document writes them, or else by whether both parts are words in it.
    """
    broken: list[tuple[Line, str, str]] = []
    for page in pages:
        for line, after in itertools.pairwise(page.lines):
            if not (line.broken or (line.text[-1:] in HYPHENS and line.text[-2:-1].isalpha())):
                continue
            end, start = _LAST_WORD.search(line.text), _FIRST_WORD.match(after.text)
            if end is None or start is None or not start.group()[0].islower():
                line.whole = False
            else:
                broken.append((line, end.group(1).lower(), start.group().lower()))
    if broken:
        text = "\n".join(line.text for page in pages for line in page.lines).lower()
        # As bytes, since their translation is many times faster.
        requested = {
            word.encode()
            for _, left, right in broken
            for word in (left, right, left + right, f"{left}-{right}")
        }
        words = text.replace("-\n", "\n").encode().translate(_NO_LETTERS).split()
        counts = Counter(filter(requested.__contains__, words))
        existing = {word.decode(): counts[word] for word in requested}
        for line, left, right in broken:
            if existing[left + right] or existing[f"{left}-{right}"]:
                line.whole = existing[left + right] >= existing[f"{left}-{right}"]
            else:
                # The broken parts themselves were counted once.
                line.whole = not (
                    len(left) > 2 and len(right) > 2 and existing[left] > 1 and existing[right] > 1
                )


def in_columns(page: PageLines) -> None:
    """Put the left of two columns of prose before the right, between full-width lines."""
    gutter = _gutter(page.lines)
    if gutter is None:
        return
    out: list[Line] = []
    left: list[Line] = []
    right: list[Line] = []
    for line in sorted(page.lines, key=lambda item: -item.baseline):
        before = [cell for cell in line.cells if cell.right <= gutter]
        after = [cell for cell in line.cells if cell.left >= gutter]
        if len(before) + len(after) < len(line.cells):
            out += [*left, *right, line]
            left, right = [], []
            continue
        for cells, column in ((before, left), (after, right)):
            if cells:
                column.append(replace(line, cells=cells))
    page.lines[:] = [*out, *left, *right]


def _gutter(lines: list[Line]) -> float | None:
    """Return the x of the gap between two columns of prose that are out of order."""
    paired = [line for line in lines if len(line.cells) == 2]
    if len(paired) < 8 or len(paired) < 0.4 * len(lines):
        return None
    long = [line for line in paired if all(len(cell.text) >= 20 for cell in line.cells)]
    if len(long) < 0.6 * len(paired):
        return None
    starts = Counter(round(line.cells[1].left) for line in paired)
    start, count = starts.most_common(1)[0]
    near = sum(number for place, number in starts.items() if abs(place - start) <= 2)
    if near < 0.6 * len(paired) or not count:
        return None
    gutter = start - 3.0
    crossing = sum(
        1 for line in lines if any(cell.left < gutter < cell.right for cell in line.cells)
    )
    return gutter if crossing < 0.3 * len(lines) else None


def drop_running(pages: list[PageLines]) -> None:
    """Remove lines near the top or bottom that recur on many pages, ignoring digits."""
    if len(pages) < 2:
        return

    def key(line: Line, page: PageLines) -> tuple[str, bool]:
        return _DIGITS.sub("#", line.text.lower()), line.baseline > page.height / 2

    def edge_lines(page: PageLines) -> set[int]:
        return {
            id(line)
            for line in page.lines
            if line.baseline > page.height * (1 - _EDGE) or line.baseline < page.height * _EDGE
        }

    edges = [edge_lines(page) for page in pages]
    seen: Counter[tuple[str, bool]] = Counter()
    for page, edge in zip(pages, edges, strict=True):
        seen.update({key(line, page) for line in page.lines if id(line) in edge})
    # A chapter's name recurs only on the pages of the chapter.
    needed = 3 if len(pages) > 3 else len(pages)
    # A chapter of a page or two is recognised by the page number next to its name.
    shifts = Counter(
        shift
        for page, edge in zip(pages, edges, strict=True)
        for line in page.lines
        if id(line) in edge
        for shift in _shifts(line.text, page.number)
    )
    usual = {shift for shift, count in shifts.items() if count >= max(3, len(pages) // 3)}
    for page, edge in zip(pages, edges, strict=True):
        page.lines[:] = [
            line
            for line in page.lines
            if id(line) not in edge
            or not (
                seen[key(line, page)] >= needed
                or _PAGE_NUMBER.match(line.text.strip())
                or (len(line.text) < 120 and usual & _shifts(line.text, page.number))
            )
        ]


def _shifts(text: str, page: int) -> set[int]:
    """By how much the number that begins or ends a line differs from the page's."""
    result = re.match(r"(\d{1,4})\s", text), re.search(r"\s(\d{1,4})$", text)
    return {page - int(match.group(1)) for match in result if match}
