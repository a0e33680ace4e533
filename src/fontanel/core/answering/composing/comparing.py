"""Answer simple comparisons: which of two is longer."""

from __future__ import annotations

import itertools
import re
from collections.abc import Sequence
from typing import NamedTuple

from fontanel.core.answering.composing.asked import Computed, Scored
from fontanel.core.answering.composing.quantities import quantities, value_of
from fontanel.core.answering.composing.statements import Statement
from fontanel.core.text.sentences import capitalised

#: Comparative and superlative -> the words for what is compared, and whether more wins.
DIMENSIONS: dict[str, tuple[str, bool]] = {}
for _words, _about in (
    ("long longer longest", "length long"),
    ("short* shorter shortest", "length long"),
    ("deep deeper deepest", "depth draught deep draft"),
    ("shallow* shallower shallowest", "depth draught deep draft"),
    ("high higher highest tall taller tallest", "height high limit level"),
    ("low* lower lowest", "height high limit level"),
    ("wide wider widest broad broader broadest", "width wide beam"),
    ("narrow* narrower narrowest", "width wide beam"),
    ("heavy heavier heaviest", "weight load capacity"),
    ("light* lighter lightest", "weight load capacity"),
    ("fast faster fastest quick quicker quickest", "speed knots"),
    ("slow* slower slowest", "speed knots"),
    ("expensive dearer dearest", "price fee fare cost charge"),
    ("cheap* cheaper cheapest", "price fee fare cost charge"),
    (
        "big bigger biggest large larger largest great greater greatest most more",
        "size number capacity length area",
    ),
    ("small* smaller smallest fewest* fewer* least* less*", "size number capacity length area"),
    ("strong stronger strongest", "capacity load strength limit"),
    ("old older oldest", "age year built"),
    ("young* younger youngest newer* newest*", "age year built"),
):
    _less = "*" in _words.split()[0]
    for _word in _words.replace("*", "").split():
        DIMENSIONS[_word] = (_about, not _less)
_DURATIONS = frozenset(["second", "minute", "hour", "day", "week", "month", "year", "ms"])
_ASKED = re.compile(rf"\b({'|'.join(sorted(DIMENSIONS, key=len, reverse=True))})\b", re.I)
_EITHER = re.compile(
    r"[,:]?\s*(?:\bthe )?\b([\w][\w .'’/-]{0,40}?)\s+or\s+(?:the )?([\w][\w"
    r" .'’/-]{0,40}?)\s*\??\s*$",
    re.I,
)


def compare(question: str, ranked: Sequence[Scored]) -> Computed | None:
    """Answer "which is longer, A or B?" from a statement or a row on each.

    Returns None when the question asks for no comparison, or the figures are not of the same kind.
    """
    asked = _ASKED.search(question)
    if asked is None or not re.search(r"\b(?:which|what|who|is|are|does|do)\b", question, re.I):
        return None
    about, more = DIMENSIONS[asked.group(1).lower()]
    if (either := _EITHER.search(question)) is not None:
        return _two(
            either.group(1),
            either.group(2),
            _column_words(question[: either.start()]),
            about,
            more=more,
            ranked=ranked,
        )
    return None


def _column_words(question: str) -> str:
    """Return the question's words that say which column is meant.

    Neither names nor the comparing word count: "greatest" alone does not mean a column "Greatest
    length".
    """
    words = re.findall(r"[a-z]+", question.lower())
    return " ".join(word for word in words if len(word) > 3 and word not in DIMENSIONS)


def _two(
    one: str, other: str, requested: str, about: str, *, more: bool, ranked: Sequence[Scored]
) -> Computed | None:
    shared = _shared_noun(one, other)
    names = [_clean(one), _clean(other if not shared else f"{shared} {other}")]
    if not all(names):
        return None
    figures = [_figures(name, requested, about, ranked) for name in names]
    for first, second in itertools.product(*figures):
        if _comparable(first, second):
            # Taking longer means being slower.
            descending = more != (about.startswith("speed") and first.unit in _DURATIONS)
            pairs = [(first, names[0]), (second, names[1])]
            (best, name), (rest, behind) = sorted(
                pairs, key=lambda pair: pair[0].value, reverse=descending
            )
            figure = f"{best.column_name} {best.text}".lstrip()
            text = f"{capitalised(name)}: {figure}, against {rest.text} for {behind}."
            return Computed(text, (best.statement, rest.statement))
    return None


def _comparable(first: Figure, second: Figure) -> bool:
    """Return whether two figures have one unit, differ, and come from different statements."""
    return (
        first.unit == second.unit
        and first.value != second.value
        and first.statement is not second.statement
    )


def _shared_noun(one: str, other: str) -> str:
    """Return the noun that both share: "berth 2 or 5" means berth 5."""
    words = one.split()
    return words[0] if len(words) > 1 and re.fullmatch(r"\w{1,3}", other.strip()) else ""


def _clean(name: str) -> str:
    return re.sub(r"^(?:is|are|the|a|an|,)\s+", "", name.strip(), flags=re.I)


class Figure(NamedTuple):
    """A number that a statement gives for a name."""

    value: float
    unit: str
    """The unit, or in a table the column's name in lower case."""
    statement: Statement
    text: str
    column: int | None = None
    """The index of the table's column."""

    @property
    def column_name(self) -> str:
        return "" if self.column is None else self.statement.columns[self.column].lower()


def _figures(name: str, requested: str, about: str, ranked: Sequence[Scored]) -> list[Figure]:
    """Return the figures that the best statements about a name contain."""
    results: list[Figure] = []
    pattern = re.compile(rf"(?<!\w){re.escape(name)}(?!\w)", re.I)
    for item in ranked[:60]:
        statement = item.statement
        if not pattern.search(statement.text):
            continue
        if statement.kind == "row":
            results += _cells(statement, requested, about)
        else:
            all_quantities = quantities(statement.text)
            if len(all_quantities) == 1:
                ((value, unit),) = all_quantities
                written = re.search(r"[€£$]?\s?\d[\d.,]*\s*[^\W\d_%]*%?", statement.text)
                text = written.group().strip() if written else f"{value:g} {unit}"
                results.append(Figure(value, unit, statement, text))
    return results


def _cells(row: Statement, requested: str, about: str) -> list[Figure]:
    """Return the numeric cells of a row in the columns that the question is about."""
    for words in (set(requested.split()), set(about.split())):
        results: list[Figure] = []
        for place, (column, cell) in enumerate(zip(row.columns, row.cells, strict=False)):
            number = re.match(r"\s*[€£$]?\s*(\d[\d.,]*)", cell)
            if number and place and words & set(re.findall(r"[a-z]+", column.lower())):
                value = value_of(number.group(1).rstrip(".,"))
                results.append(Figure(value, column.lower(), row, cell.strip(), place))
        if results:
            return results
    return []
