"""Questions for the cells of a table: a property of what the first cell of a row names."""

from __future__ import annotations

import re
from collections.abc import Iterator

from fontanel.core.answering.composing.statements import Statement

#: Columns after which "of" names what a row is about, by their last word.
_OF = frozenset(
    {"length", "width", "height", "depth", "draught", "weight", "capacity", "meaning", "value"}
    | {"speed", "size", "colour", "color", "default", "area", "volume", "rank", "temperature"}
    | {"voltage", "pressure", "diameter", "strength", "range", "purpose", "population", "title"}
    | {
        "name",
        "address",
        "author",
        "version",
        "unit",
        "owner",
        "power",
        "symbol",
        "code",
        "postcode",
        "type",
    }
)
#: Columns after which "for" does.
_FOR = frozenset(
    {"price", "cost", "fee", "charge", "rate", "fare", "tariff", "deposit", "fine", "penalty"}
    | {"budget", "allowance", "salary", "pay", "notice", "limit", "deadline", "duration", "period"}
    | {"interval", "frequency", "response", "time", "date", "day", "days", "hours", "maximum"}
    | {"minimum", "number", "amount", "quantity", "dose", "dosage", "phone", "telephone", "fax"}
    | {"extension", "e-mail", "email", "channel", "room", "floor", "place", "location", "contact"}
    | {"person", "responsible", "department", "office", "supplier", "description"}
    | {"remark", "condition", "requirement", "requirements", "format", "status", "level"}
    | {"percentage", "discount", "premium", "cover", "excess", "retention", "storage", "access"}
    | {"permission", "approval", "opening", "closing", "departure", "arrival", "platform", "gate"}
    | {"berth", "water"}
)
_EMPTY = frozenset({"", "-", "–", "—", "none", "no", "yes", "x", "n/a", "0"})
_COLUMN = re.compile(r"^[A-Za-z][A-Za-z -]{2,40}$")
#: Columns that are phrases, not nouns.
_PHRASE = re.compile(
    r"^(?:we|you|they|what|which|when|where|who|how|by|to|for|if|at|on|in|from|kept|provided|given|paid|held|not|is|are)\b"
    r"|\b(?:by|for|to|of|from|after|before)$|\b(?:at|to|then|per)\b",
    re.I,
)
_KEY = re.compile(r"^[A-Za-z][\w .’'&/-]{1,50}$")
_CAPITAL = re.compile(r"^[A-Z][a-z]")


def questions_of_row(statement: Statement) -> Iterator[tuple[str, ...]]:
    """Yield a question for each filled cell whose column names a property."""
    cells, columns = statement.cells, statement.columns
    if len(cells) != len(columns) or not 2 <= len(cells) <= 12:
        return
    key = cells[0].strip()
    if not _KEY.match(key) or key.lower() in _EMPTY or _PHRASE.search(columns[0].strip()):
        return
    for column, cell in zip(columns[1:], cells[1:], strict=True):
        name = column.strip()
        last = name.lower().split()[-1] if name else ""
        if not _COLUMN.match(name) or _PHRASE.search(name) or cell.strip().lower() in _EMPTY:
            continue
        if last not in _OF and last not in _FOR:
            continue
        name = name if name.isupper() else name[:1].lower() + name[1:]
        verb = "are" if last.endswith("s") and not last.endswith("ss") else "is"
        link = "of" if last in _OF else "for"
        yield f"What {verb} the {name} {link} {_named(key)}?", f"{key}: {name}"


def _named(key: str) -> str:
    """Return what a row is about as it is written within a sentence."""
    words = key.split()
    if len(words) > 1 and _CAPITAL.match(key) and words[1].isalpha() and key[1:].islower():
        return key[:1].lower() + key[1:]
    return key
