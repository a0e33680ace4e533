"""Markdown (CommonMark with tables) and its front matter."""

from __future__ import annotations

import re

from markdown_it import MarkdownIt
from markdown_it.token import Token

from fontanel.core.reading.decode import decode
from fontanel.core.reading.model import ReadingBuilder

_FRONT_MATTER = re.compile(r"\A---\s*\n(.*?\n)---\s*(?:\n|\Z)", re.S)
_TITLE = re.compile(r"^title:\s*(.+)$", re.M)
_TAG = re.compile(r"<[^>]{1,200}>")


def read_markdown(data: bytes) -> ReadingBuilder:
    text, warnings = decode(data)
    builder = ReadingBuilder(warnings=warnings)
    text = text.replace("\r\n", "\n")
    if front := _FRONT_MATTER.match(text):
        if title := _TITLE.search(front.group(1)):
            builder.title = title.group(1).strip().strip("\"'")
        text = text[front.end() :]
    _walk(builder, MarkdownIt("commonmark").enable("table").parse(text))
    return builder


def _walk(builder: ReadingBuilder, tokens: list[Token]) -> None:
    i = 0
    while i < len(tokens):
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
            builder.list(_items(tokens[i : end + 1]))
            i = end + 1
        elif token.type == "table_open":
            end = _closing(tokens, i)
            _table(builder, tokens[i:end])
            i = end + 1
        else:
            if token.type in ("fence", "code_block"):
                builder.code(token.content)
            elif token.type == "html_block":
                builder.paragraph(_TAG.sub(" ", token.content))
            i += 1


def slug(heading: str) -> str:
    """The anchor that Markdown renderers commonly give a heading."""
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
        if child.type in ("text", "code_inline"):
            parts.append(child.content)
        elif child.type in ("softbreak", "hardbreak"):
            parts.append(" ")
        elif child.type == "image":
            parts.append(child.content)
    return "".join(parts)


def _items(tokens: list[Token]) -> list[str]:
    """The items of a list, nested lists flattened with two blanks a level."""
    items: list[str] = []
    numbers: list[int | None] = []
    fresh = False
    for token in tokens:
        if token.type == "bullet_list_open":
            numbers.append(None)
        elif token.type == "ordered_list_open":
            numbers.append(int(token.attrGet("start") or 1))
        elif token.type in ("bullet_list_close", "ordered_list_close"):
            numbers.pop()
        elif token.type == "list_item_open":
            number = numbers[-1]
            mark = "-" if number is None else f"{number}."
            if number is not None:
                numbers[-1] = number + 1
            items.append("  " * (len(numbers) - 1) + mark + " ")
            fresh = True
        elif token.type in ("inline", "fence", "code_block"):
            text = _inline(token) if token.type == "inline" else token.content
            items[-1] += text if fresh else " " + text
            fresh = False
    return items


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
