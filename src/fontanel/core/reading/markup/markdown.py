"""Markdown (CommonMark with tables) and its front matter."""

from __future__ import annotations

import re
from collections import Counter
from contextlib import suppress
from html import unescape

from markdown_it import MarkdownIt
from markdown_it.token import Token

from fontanel.core.reading.decode import decode
from fontanel.core.reading.markup.html import add_html
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed

_FRONT_MATTER = re.compile(r"\A---\s*\n(.*?\n)---\s*(?:\n|\Z)", re.S)
_TITLE = re.compile(r"^title:\s*(.+)$", re.M)
_TAG = re.compile(r"<[^>]{1,200}>")
#: Markup whose structure matters, or whose content is not text.
_STRUCTURED = re.compile(r"<(?:table|ul|ol|dl|pre|h[1-6]|script|style|svg)\b", re.IGNORECASE)
_NOTE = re.compile(r"^\[\^([^\]\s]{1,50})\]:[ \t]+(.*(?:\n(?: {2,}|\t).*)*)\n?", re.MULTILINE)
_REFERENCE = re.compile(r"\[\^([^\]\s]{1,50})\]")
#: A reference to a note that there is, between two private characters: elsewhere `[^a-z]` is text.
_NOTE_MARK = re.compile("\ue000([^\ue001]{1,50})\ue001")


def read_markdown(data: bytes) -> ReadingBuilder:
    text, warnings = decode(data)
    builder = ReadingBuilder(warnings=warnings)
    text = text.replace("\r\n", "\n")
    if front := _FRONT_MATTER.match(text):
        if title := _TITLE.search(front.group(1)):
            builder.title = title.group(1).strip().strip("\"'")
        text = text[front.end() :]
    notes: dict[str, str] = {}
    referred = Counter(_REFERENCE.findall(text))

    def take(match: re.Match[str]) -> str:
        mark, note = match.groups()
        if mark in notes or referred[mark] < 2:
            return match.group()
        notes[mark] = note
        return "\n"

    text = _NOTE.sub(take, text)
    text = _REFERENCE.sub(
        lambda match: f"\ue000{match[1]}\ue001" if match[1] in notes else match[0], text
    )
    _walk(builder, MarkdownIt("commonmark").enable("table").parse(text), notes)
    return builder


def _walk(builder: ReadingBuilder, tokens: list[Token], notes: dict[str, str]) -> None:
    """Add what tokens say. A note comes after the first block that refers to it."""
    i = 0
    begun = 0
    while i < len(tokens):
        if tokens[i].level == 0 and notes:
            _add_notes(builder, tokens[begun:i], notes)
            begun = i
        token = tokens[i]
        if token.type == "heading_open":
            text = _inline(tokens[i + 1])
            builder.heading(text, int(token.tag[1]), anchor=slug(text))
            i += 3
        elif token.type == "paragraph_open":
            builder.paragraph(_inline(tokens[i + 1]))
            i += 3
        elif token.type in ("bullet_list_open", "ordered_list_open"):
            end = _closing(tokens, i)
            _list(builder, tokens[i : end + 1])
            i = end + 1
        elif token.type == "table_open":
            end = _closing(tokens, i)
            _table(builder, tokens[i:end])
            i = end + 1
        else:
            if token.type in ("fence", "code_block"):
                builder.code(_NOTE_MARK.sub(r"[^\1]", token.content))
            elif token.type == "html_block":
                _markup(builder, token.content)
            i += 1
    _add_notes(builder, tokens[begun:], notes)
    for mark in list(notes):
        builder.footnote(f"{mark} {notes.pop(mark)}")


def _add_notes(builder: ReadingBuilder, tokens: list[Token], notes: dict[str, str]) -> None:
    for token in tokens:
        for mark in _NOTE_MARK.findall(token.content) if token.type == "inline" else ():
            if mark in notes:
                builder.footnote(f"{mark} {notes.pop(mark)}")


def _markup(builder: ReadingBuilder, content: str) -> None:
    """A block of HTML: by its own reader where it has structure, else as a paragraph."""
    content = _NOTE_MARK.sub("", content)
    if _STRUCTURED.search(content):
        title = builder.title
        with suppress(ReadingFailed):
            add_html(builder, f"<html><body><main>{content}</main></body></html>")
        builder.title = title
    else:
        builder.paragraph(unescape(_TAG.sub(" ", content)))


def slug(heading: str) -> str:
    """Return the anchor that Markdown renderers commonly generate for a heading."""
    return re.sub(r"\s+", "-", re.sub(r"[^\w\s-]", "", heading.lower()).strip())


def _closing(tokens: list[Token], start: int) -> int:
    depth = 0
    for i in range(start, len(tokens)):
        depth += tokens[i].nesting
        if depth == 0:
            return i
    return len(tokens) - 1


def _inline(token: Token) -> str:
    parts: list[str] = []
    for child in token.children or []:
        if child.type == "text":
            parts.append(_NOTE_MARK.sub("", child.content))
        elif child.type == "code_inline":
            parts.append(_NOTE_MARK.sub(r"[^\1]", child.content))
        elif child.type in ("softbreak", "hardbreak"):
            parts.append(" ")
        elif child.type == "image":
            parts.append(child.content)
    return "".join(parts)


def _list(builder: ReadingBuilder, tokens: list[Token]) -> None:
    """Add a list, flattening nested ones with two blanks per level.

    An item that contains code or a table ends the list, and the rest continues after it.
    """
    _ListReader(builder).read(tokens)


class _ListReader:
    """Collects the items of a list."""

    def __init__(self, builder: ReadingBuilder) -> None:
        self._builder = builder
        self._items: list[str] = []
        #: The next number of each open list; None for one with bullets.
        self._numbers: list[int | None] = []
        #: Whether the last item has no text yet.
        self._fresh = False

    def read(self, tokens: list[Token]) -> None:
        """Read the tokens of a list."""
        position = 0
        while position < len(tokens):
            token = tokens[position]
            if token.type == "table_open":
                last = position + _closing(tokens[position:], 0)
                self._end()
                _table(self._builder, tokens[position:last])
                position = last
            elif token.type in ("fence", "code_block", "html_block"):
                self._end()
                self._block(token)
            else:
                self._token(token)
            position += 1
        self._fresh = False
        self._end()

    def _token(self, token: Token) -> None:
        if token.type == "bullet_list_open":
            self._numbers.append(None)
        elif token.type == "ordered_list_open":
            self._numbers.append(int(token.attrGet("start") or 1))
        elif token.type in ("bullet_list_close", "ordered_list_close"):
            self._numbers.pop()
        elif token.type == "list_item_open":
            self._open_item()
        elif token.type == "inline":
            self._text(_inline(token))

    def _open_item(self) -> None:
        number = self._numbers[-1]
        mark = "-" if number is None else f"{number}."
        if number is not None:
            self._numbers[-1] = number + 1
        self._items.append("  " * (len(self._numbers) - 1) + mark + " ")
        self._fresh = True

    def _text(self, text: str) -> None:
        if self._items:
            self._items[-1] += text if self._fresh else " " + text
        else:
            self._builder.paragraph(text)
        self._fresh = False

    def _block(self, token: Token) -> None:
        if token.type == "html_block":
            _markup(self._builder, token.content)
        else:
            self._builder.code(_NOTE_MARK.sub(r"[^\1]", token.content))

    def _end(self) -> None:
        """End the list, to continue after what interrupts it."""
        if self._fresh and self._items:
            self._items.pop()  # an item without text before its code
        self._builder.list(self._items)
        self._items = []
        self._fresh = False


def _table(builder: ReadingBuilder, tokens: list[Token]) -> None:
    rows: list[list[str]] = []
    header_rows = 0
    for token in tokens:
        if token.type == "tr_open":
            rows.append([])
        elif token.type == "inline":
            rows[-1].append(_inline(token))
        elif token.type == "thead_close":
            header_rows = len(rows)
    builder.table(rows, header_rows)
