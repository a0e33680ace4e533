"""Which lines of pages are headings: by the outline, or by size and weight."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass
from functools import lru_cache
from statistics import median

from fontanel.core.reading.paged.lines import Line, PageLines

#: Page number from 1 -> the titles that the outline places there, with their levels from 1.
Outline = dict[int, list[tuple[str, int]]]


NUMBERED = re.compile(
    r"^(?:(?:chapter|part|appendix|section)\s+)?(?:\d{1,3}|[A-Z])(?:\.\d{1,3}){0,5}\.?\s+\S", re.I
)


_NUMBER_BEFORE = re.compile(r"^(?:chapter|part|appendix|section)?[\divx]*[a-z]?(?=\d)\d*|^\d+")


_KEY = re.compile(r"[\W_]+")


#: The same for ASCII, of which a translation as bytes is many times faster.
_NO_KEY = bytes(code for code in range(128) if not chr(code).isalnum())


_LOWER = bytes(range(256)).lower()


@dataclass(slots=True)
class TextStyle:
    """The style of the document's text, from which headings differ."""

    body: float
    bold_share: float
    levels: dict[tuple[float, bool], int]
    outlined: bool


def outline_lines(pages: list[PageLines], outline: Outline) -> dict[int, int]:
    """Return the lines (by identity) of the outline's titles, with levels.

    A title may span lines.
    """
    results: dict[int, int] = {}
    for page in pages:
        requested = [(_key(title), level) for title, level in outline.get(page.number, [])]
        longest = 2 * max((len(title) for title, _ in requested), default=0) + 40
        keys = (
            [_key(line.text) if len(line.text) < longest else "" for line in page.lines]
            if requested
            else []
        )
        position = 0
        for title, level in requested:
            if not title:
                continue
            for start in [*range(position, len(page.lines)), *range(position)]:
                taken = _title_lines(keys, start, title)
                if taken:
                    for line in page.lines[start : start + taken]:
                        results.setdefault(id(line), level)
                    position = start + taken
                    break
    return results


def _title_lines(keys: list[str], start: int, title: str) -> int:
    """Return how many lines from `start` on form a title, or 0."""
    text, bare = "", _bare(title)
    for count in range(1, 4):
        if start + count > len(keys) or not keys[start + count - 1]:
            return 0
        text += keys[start + count - 1]
        if text.endswith(bare) and (text == title or _bare(text) == bare):
            return count
        if len(text) > len(title) + 12:
            return 0
    return 0


def _key(text: str) -> str:
    if text.isascii():
        return text.encode().translate(_LOWER, _NO_KEY).decode()
    return _KEY.sub("", text).lower()


@lru_cache(maxsize=1024)
def _bare(key: str) -> str:
    return _NUMBER_BEFORE.sub("", key) or key


def style_of(pages: list[PageLines], headings: dict[int, int]) -> TextStyle:
    weights: Counter[float] = Counter()
    bold = total = 0
    by_style: dict[tuple[float, bool], list[int]] = {}
    for page in pages:
        for line in page.lines:
            length = len(line.text)
            weights[line.size] += length
            total += length
            bold += length if line.bold else 0
            if id(line) in headings:
                by_style.setdefault((line.size, line.bold), []).append(headings[id(line)])
    body = weights.most_common(1)[0][0] if weights else 10.0
    share = bold / max(total, 1)
    if len(by_style) and sum(map(len, by_style.values())) >= 3:
        # The outline shows which styles are headings; the body's own style never is.
        levels = {
            style: round(median(result))
            for style, result in by_style.items()
            if style != (body, False) and len(result) > 1
        }
        deepest = max(levels.values(), default=1)
        smallest = min((size for size, _ in levels), default=body)
        for page in pages:
            for line in page.lines:
                style = (line.size, line.bold)
                if style not in levels and line.size >= body * 1.12 and len(line.text) < 160:
                    larger = [level for (size, _), level in levels.items() if size <= line.size]
                    levels[style] = min(larger, default=1) if line.size >= smallest else deepest + 1
        return TextStyle(body, share, levels, outlined=True)
    sizes = sorted(
        {
            line.size
            for page in pages
            for line in page.lines
            if line.size >= body * 1.12 and len(line.text) < 200
        },
        reverse=True,
    )
    return TextStyle(
        body,
        share,
        {
            (size, weight): min(rank, 5)
            for rank, size in enumerate(sizes, 1)
            for weight in (True, False)
        },
        outlined=False,
    )


def heading_level(line: Line, style: TextStyle) -> int:
    """The rank of a line that looks like a heading, else 0."""
    text = line.text
    level = style.levels.get((line.size, line.bold), 0)
    if not level and (style.outlined or not line.bold):
        return 0
    if len(text) > 160 or len(line.cells) > 2 or text.upper() == text.lower():
        return 0
    if line.confidence is not None and line.size < style.body * 1.35:
        return 0  # sizes guessed from a picture vary
    if level and (line.size >= style.body * 1.12 or line.bold):
        return (
            level
            if style.outlined or line.size >= style.body * 1.12
            else _numbered_level(text, level)
        )
    if style.outlined or not line.bold or style.bold_share > 0.3 or line.size < style.body * 0.95:
        return 0
    if len(text) >= 90 or text.rstrip().endswith((".", ",", ";", ":")) or len(line.cells) > 1:
        return 0
    return _numbered_level(text, len({size for size, _ in style.levels}) + 1)


def _numbered_level(text: str, level: int) -> int:
    """Return a level at least as deep as the heading's number has parts."""
    numbered = NUMBERED.match(text)
    return (
        max(level, 1 + numbered.group(0).split()[0].rstrip(".").count(".")) if numbered else level
    )
