"""Plain text: paragraphs by blank lines, headings by common conventions."""

from __future__ import annotations

import re

from fontanel.core.reading.decode import decode
from fontanel.core.reading.model import ReadingBuilder

_ITEM = re.compile(r"^(\s*)([-*•–]|\(?\d{1,3}[.)]|\(?[a-z][.)])\s+(?=\S)")
#: "3 Berths", or with a multi-part number also a sentence: "3.1. What is a berth?"
_NUMBERED = re.compile(
    r"^(\d{1,2}(?:\.\d{1,2}){0,3})\.?\s+[A-Z][^.!?]{1,80}$|^(\d{1,2}(?:\.\d{1,2}){1,3})\.?\s+\S.{1,110}$"
)
_UNDERLINE = re.compile(r"^([=\-~#*^])\1{2,}\s*$")


def read_plain(data: bytes) -> ReadingBuilder:
    text, warnings = decode(data)
    builder = ReadingBuilder(warnings=warnings)
    add_plain(builder, text)
    return builder


def add_plain(builder: ReadingBuilder, text: str) -> None:
    """Add a text's paragraphs, lists and headings to a reading."""
    lines = (
        text.replace("\r\n", "\n")
        .replace("\r", "\n")
        .replace("\f", "\n\n")
        .expandtabs(4)
        .split("\n")
    )
    for chunk in _chunks(lines):
        _add_chunk(builder, chunk)


def add_line(builder: ReadingBuilder, line: str) -> None:
    """Add a line as a paragraph."""
    if line.strip():
        _add_chunk(builder, [line.strip()])


def _chunks(lines: list[str]) -> list[list[str]]:
    chunks: list[list[str]] = [[]]
    for line in lines:
        if line.strip():
            chunks[-1].append(line)
        elif chunks[-1]:
            chunks.append([])
    return [chunk for chunk in chunks if chunk]


def _add_chunk(builder: ReadingBuilder, lines: list[str]) -> None:
    if len(lines) >= 2 and _UNDERLINE.match(lines[1].strip()) and len(lines[0].strip()) <= 100:
        builder.heading(lines[0], 1 if lines[1].strip()[0] in "=#*" else 2)
        lines = lines[2:]
        if not lines:
            return
    if len(lines) == 1 and (level := _heading_level(lines[0].strip())):
        builder.heading(lines[0], level)
        return
    lead: list[str] = []
    while lines and not _ITEM.match(lines[0]):
        lead.append(lines.pop(0))
    if lead:
        builder.paragraph(" ".join(lead))
    items: list[str] = []
    for line in lines:
        if match := _ITEM.match(line):
            items.append("  " * min(len(match.group(1)) // 2, 6) + line.strip())
        else:
            items[-1] += " " + line.strip()
    builder.list(items)


def _heading_level(line: str) -> int:
    """Return the level of a lone line that resembles a heading, else 0."""
    if match := _NUMBERED.match(line):
        return 2 + (match.group(1) or match.group(2)).count(".")
    letters = [c for c in line if c.isalpha()]
    if (
        len(letters) >= 3
        and len(line) <= 80
        and all(c.isupper() for c in letters)
        and line[-1] not in ".,;"
    ):
        return 2
    return 0
