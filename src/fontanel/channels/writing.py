"""Replies as text: cut at a sentence, with numbered sources."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from html import escape

from markdown_it import MarkdownIt

from fontanel.channels.protocol import Quoted
from fontanel.core.text.sentences import sentence_spans

_WORD = re.compile(r"\S+")
_EMPHASIS = re.compile(r"\*\*(.+?)\*\*|(?<![\w*])[*_](\S(?:.*?\S)?)[*_](?![\w*])")
_CUT = "(The answer goes on; it was cut to {} words.)"


@dataclass(frozen=True, slots=True)
class Mark:
    """A source of an answer, and the position in the text where its number belongs."""

    position: int
    source: Quoted


def reply_text(
    answer: str, marks: Iterable[Mark], max_words: int, *, numbers: bool = True
) -> tuple[str, list[Quoted]]:
    """Return an answer of some words at most, and the sources of what remains of it.

    Args:
        answer: Markdown.
        numbers: Write the number of each source where it belongs.
    """
    end = _cut_position(answer, max_words)
    text, before, sources = "", 0, list[Quoted]()
    for mark in sorted(marks, key=lambda one: (one.position, one.source.number)):
        if mark.position > end:
            break
        sources.append(mark.source)
        if numbers:
            text += f"{answer[before : mark.position]} [{mark.source.number}]"
            before = mark.position
    text = (text + answer[before:end]).rstrip()
    if end < len(answer.rstrip()):
        text += "\n\n" + _CUT.format(max_words)
    return text, sources


def _cut_position(answer: str, max_words: int) -> int:
    """Return where the last sentence ends that is within the limit; at least one remains."""
    words = list(_WORD.finditer(answer))
    if len(words) <= max_words:
        return len(answer)
    limit = words[max_words - 1].end()
    ends = [end for start, end in sentence_spans(answer)]
    within = [end for end in ends if end <= limit]
    if within:
        return within[-1]
    return limit if not ends or ends[0] > 2 * limit else ends[0]


def source_lines(sources: Sequence[Quoted]) -> list[str]:
    """Return a line of text for each source."""
    lines = []
    for source in sources:
        where = f", {source.place}" if source.place else ""
        link = f": {source.url}" if source.url else ""
        lines.append(f"[{source.number}] {source.title}{where}{link}")
    return lines


def plain_text(text: str, sources: Sequence[Quoted]) -> str:
    """Return a reply for programs that show no Markdown: without emphasis, with its sources."""
    plain = _EMPHASIS.sub(lambda match: match[1] or match[2], text)
    lines = source_lines(sources)
    return "\n\n".join([plain, "\n".join(lines)]) if lines else plain


def html_text(text: str, sources: Sequence[Quoted]) -> str:
    """Return a reply as HTML; HTML in the text is shown as it is written."""
    body: str = MarkdownIt("commonmark", {"html": False}).enable("table").render(text)
    if not sources:
        return body
    items = "".join(_source_item(source) for source in sources)
    return f"{body}<p>Sources</p>\n<ul>{items}</ul>\n"


def _source_item(source: Quoted) -> str:
    where = f", {source.place}" if source.place else ""
    name = escape(f"[{source.number}] {source.title}{where}")
    link = source.url.startswith(("https://", "http://"))
    shown = f'<a href="{escape(source.url)}">{name}</a>' if link else name
    return f"<li>{shown}<br><q>{escape(' '.join(source.quote.split()))}</q></li>"
