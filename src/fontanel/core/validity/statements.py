"""Finding what a document says about its own validity.

Only its title and its beginning are searched: in the text below, "is replaced by" is about a rope
or a card. A statement needs the document as its subject ("This plan replaces ...", "Superseded by
...").
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import date
from typing import NamedTuple

from fontanel.core.reading import Reading
from fontanel.core.reading.model import CELL_SEPARATOR, Block
from fontanel.core.text.sentences import sentence_spans
from fontanel.core.validity.dates import dates_in, first_date
from fontanel.core.validity.expressions import (
    Expressions,
    expressions_in,
    may_concern_validity,
)
from fontanel.core.validity.model import ValidityKind, ValidityStatement

#: The characters at a document's beginning that are searched.
_OPENING = 2500
_LONGEST_LINE, _LONGEST_QUOTE, _LONGEST_NAME = 1000, 300, 160

#: A part of the document that begins or ends on another day says nothing of the whole.
_PART = re.compile(
    r"\b(?i:sections?|chapters?|paragraphs?|clauses?|parts?|annex(?:es)?|appendix|articles?|tables?"
    r"|Abschnitt|Kapitel|Absatz|Anhang|chapitre|annexe|sección|capítulo|anexo)\s+[\dIVXA-Z]",
)
#: Names of no single document: "all earlier versions", "none".
_ANY = re.compile(
    r"^(?:all|any|every|alle|tous|toutes?|todos|todas)\b"
    r"|^(?:the\s+)?(?:previous|earlier|prior|old)\s+"
    r"(?:versions?|editions?|issues?|ones?)\b"
    r"|^(?:none|nothing|n/a|not applicable|keine[sr]?|nichts)$|^[\W_]*$",
    re.I,
)


class _Line(NamedTuple):
    text: str
    start: int
    end: int


def find_statements(reading: Reading) -> tuple[ValidityStatement, ...]:
    """Return what a document says about its own validity, in order, one of each kind and name."""
    language = expressions_in(reading.language)
    found: dict[tuple[ValidityKind, str], ValidityStatement] = {}
    titles = [_Line(reading.title, 0, 0)]
    for block in reading.blocks[:3]:
        if block.kind == "heading":
            titles.append(_Line(reading.text[block.start : block.end], block.start, block.end))
    # A heading of the text is preferred, as it can be shown in its place.
    for title in reversed(titles):
        if language.label.search(title.text):
            statement = _statement(ValidityKind.WITHDRAWN, title)
            found.setdefault((statement.kind, ""), statement)
    if not may_concern_validity(reading.text[: 2 * _OPENING]):
        return tuple(found.values())
    for line in _opening(reading):
        if may_concern_validity(line.text):
            for statement in _in_line(line, language):
                found.setdefault((statement.kind, statement.names.lower()), statement)
    return tuple(found.values())


def opening_dates(reading: Reading) -> tuple[date, ...]:
    """Return the dates at a document's beginning, by which others may refer to it."""
    return tuple(dict.fromkeys(day for day, _, _ in dates_in(reading.text[:_OPENING])))[:20]


def _opening(reading: Reading) -> Iterator[_Line]:
    """Yield the sentences and rows at the beginning, the cells of a row joined by a blank."""
    for block in reading.blocks:
        if block.start >= _OPENING:
            return
        if block.kind in ("paragraph", "list", "table", "footnote"):
            yield from _lines(reading.text, block)


def _lines(text: str, block: Block) -> Iterator[_Line]:
    start = block.start
    for line in text[block.start : min(block.end, start + _OPENING)].split("\n"):
        if block.kind == "paragraph":
            for first, last in sentence_spans(line):
                yield _Line(line[first:last], start + first, start + last)
        else:
            indent = len(line) - len(line.lstrip(" -•*\t"))
            row = line[indent:].replace(CELL_SEPARATOR, " ")
            yield _Line(row, start + indent, start + len(line))
        start += len(line) + 1


def _in_line(line: _Line, language: Expressions) -> Iterator[ValidityStatement]:
    text = line.text.strip()[:_LONGEST_LINE]
    for kind, pattern in (
        (ValidityKind.REPLACED_BY, language.replaced_by),
        (ValidityKind.REPLACES, language.replaces),
    ):
        if (match := pattern.match(text)) and (name := _name(match["name"], language)):
            yield _statement(kind, line, names=name, day=first_date(name))
    if (match := language.withdrawn.match(text)) is not None:
        yield _statement(ValidityKind.WITHDRAWN, line, day=first_date(text[match.end() :]))
    for kind, pattern in (
        (ValidityKind.IN_FORCE_FROM, language.begins),
        (ValidityKind.IN_FORCE_UNTIL, language.ends),
    ):
        match = pattern.search(text)
        if match is None or _PART.search(text[: match.start()]):
            continue
        if (day := first_date(match["day"])) is not None:
            yield _statement(kind, line, day=day)


def _name(text: str, language: Expressions) -> str:
    """Return the name of another document, cut from the rest of its sentence."""
    # A number's or an abbreviation's full stop within the name is followed by no blank.
    ends = language.name_ends.search(text)
    name = text[: ends.start()] if ends else text
    name = name.strip(" \t.,:;()[]\"“”'‘’")
    return "" if len(name) > _LONGEST_NAME or _ANY.match(name) else name


def _statement(
    kind: ValidityKind, line: _Line, *, names: str = "", day: date | None = None
) -> ValidityStatement:
    return ValidityStatement(
        kind, line.text.strip()[:_LONGEST_QUOTE], line.start, line.end, names, day
    )
