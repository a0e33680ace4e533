"""Footnotes: small lines at the foot of a page that begin with a mark."""

from __future__ import annotations

import re

from fontanel.core.reading.paged.lines import RAISED, Line, PageLines

_MARK = re.compile(rf"^(?:[{RAISED}]{{1,3}}|\d{{1,2}}|[*†‡§])(?=\s*[^\W\d]|\s*[\"'“‘(/<\[]|$)\s*")
_LOWER_FIGURES = str.maketrans(RAISED, "0123456789")
#: A note's letters are smaller than the text's by at least this factor.
_SMALLER = 0.93
#: Share of the page's height below which notes begin.
_LOWER = 0.6


def take_footnotes(page: PageLines, body: float) -> list[list[Line]]:
    """Remove the notes from a page's lines, and return the lines of each.

    Args:
        body: The size of the text in points.
    """
    first = len(page.lines)
    while first and _is_small(page.lines[first - 1], page, body):
        first -= 1
    while first < len(page.lines) and not _MARK.match(page.lines[first].text):
        first += 1
    notes: list[list[Line]] = []
    for line in page.lines[first:]:
        if _MARK.match(line.text) and not (
            notes and line.text[0].isdigit() and _is_mark_alone(notes[-1])
        ):
            notes.append([line])
        else:
            notes[-1].append(line)
    if any(_is_mark_alone(note) for note in notes):
        return []
    del page.lines[first:]
    return notes


def note_text(text: str) -> str:
    """A note's text with its mark apart from its first word."""
    match = _MARK.match(text)
    return (
        f"{match.group().strip().translate(_LOWER_FIGURES)} {text[match.end() :]}"
        if match
        else text
    )


def _is_small(line: Line, page: PageLines, body: float) -> bool:
    # A mark on its own line may have any size.
    return line.baseline < page.height * _LOWER and (
        line.size <= body * _SMALLER or len(line.text) < 3
    )


def _is_mark_alone(note: list[Line]) -> bool:
    return len(note) == 1 and len(note[0].text) < 3
