"""Count, list, add up and compare the rows of a table, exactly.

"How many berths are longer than 100 m?" is answered from all rows of one table, with each row that
counts cited, or declined with the reason.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum

from fontanel.core.answering.composing.asked import Computed, Scored, exact_words
from fontanel.core.answering.composing.comparing import DIMENSIONS
from fontanel.core.answering.composing.statements import Statement
from fontanel.core.answering.composing.table_rows import (
    NOTHING,
    Amount,
    TableRows,
    amount_in,
    tables_in,
)
from fontanel.core.answering.evidence import EvidencePassage

_COUNT = re.compile(r"\b(?:how many|(?:what is )?the number of)\s+(?P<noun>[a-z][a-z-]+)\b", re.I)
_LIST = re.compile(r"\b(?:which|what|list(?: all| the)*)\s+(?P<noun>[a-z][a-z-]+s)\b", re.I)
_AVERAGE = re.compile(r"\b(?:average|mean)\b", re.I)
_SUM = re.compile(r"\b(?:total|sum of|altogether|in all|all together|add(?:ed)? up)\b", re.I)
#: A superlative, and what may be compared by it: "the longest berth", "which berth is the longest",
#: "the greatest length of the berths".
_SUPERLATIVES = "|".join(w for w in DIMENSIONS if w.endswith("est") or w in ("most", "least"))
_SUPERLATIVE = re.compile(rf"\b(?P<word>{_SUPERLATIVES})\b(?:\s+(?P<noun>[a-z][a-z-]+))?", re.I)
_COMPARED = re.compile(
    r"\b(?:which|what|of|among)\s+(?:of\s+)?(?:the\s+|all\s+)*(?P<noun>[a-z][a-z-]+)\b", re.I
)
_NUMBER = r"(?P<first>[€£$]?\s?\d[\d.,]*\s*(?:[^\W\d_]+|%)?)"
_MORE = "more|longer|deeper|higher|taller|wider|heavier|larger|bigger|greater|faster|older"
_LESS = "less|fewer|shorter|shallower|lower|narrower|lighter|smaller|slower|younger|cheaper"
#: Words that compare without saying what.
_ANY = frozenset(
    ["more", "less", "fewer", "greater", "larger", "smaller", "bigger", "higher", "lower"]
)

_Test = Callable[[float, float, float], bool]
#: How a number in a question limits rows: a test of the value with one or two numbers. Longer
#: forms come first.
_LIMITS: tuple[tuple[re.Pattern[str], _Test], ...] = tuple(
    (re.compile(rf"\b{pattern}", re.I), test)
    for pattern, test in (
        (
            rf"between {_NUMBER} and {_NUMBER.replace('first', 'second')}",
            lambda value, first, second: first <= value <= second,
        ),
        (rf"(?:no|not) (?P<word>{_MORE}) than {_NUMBER}", lambda value, first, _: value <= first),
        (rf"(?:no|not) (?P<word>{_LESS}) than {_NUMBER}", lambda value, first, _: value >= first),
        (rf"(?:at most|up to|maximum of) {_NUMBER}", lambda value, first, _: value <= first),
        (rf"(?:at least|minimum of) {_NUMBER}", lambda value, first, _: value >= first),
        (rf"(?P<word>{_MORE}) than {_NUMBER}", lambda value, first, _: value > first),
        (rf"(?P<word>{_LESS}) than {_NUMBER}", lambda value, first, _: value < first),
        (rf"(?:over|above|exceeding|exceeds?) {_NUMBER}", lambda value, first, _: value > first),
        (rf"(?:under|below) {_NUMBER}", lambda value, first, _: value < first),
    )
)
#: Words of a question that say nothing about rows.
_PLAIN = frozenset(
    """
    how many what which who list all the number of are is was were there have has had do does did
    can may must in on at for to with a an and or by from that this it total sum altogether
    together than not no least most up over above under below between exceeding exceed exceeds
    more less fewer maximum minimum please show me tell average mean among
    """.split()  # noqa: SIM905
)
#: The sufficiency of a table that has what is computed, at least.
COMPUTED = 0.9
#: A first column that does not say what its rows are; the heading or the title does.
_ANY_NAME = re.compile(r"(?:number|no\.?|nr\.?|name|code|id|item|#|)", re.I)
_NEGATION = re.compile(r"\b(?:no|not|without|lacks?|lacking|except|neither|none)\b|n't\b", re.I)
#: Rows that are cited, and named in the text.
_MAX_CITED = 14
#: Ranked statements among which a row's table is looked for.
_RANKED = 16


@dataclass(frozen=True, slots=True)
class _Limit:
    """What a question asks of a number: the word that compares, the whole phrase, and the test."""

    word: str
    phrase: str
    first: Amount
    second: Amount
    test: _Test

    def accepts(self, amount: Amount) -> bool:
        return self.test(amount.value, self.first.value, self.second.value)

    @property
    def about(self) -> set[str]:
        """Words for what is compared, as in the names of columns."""
        if self.word in _ANY or self.word not in DIMENSIONS:
            return set()
        return set(DIMENSIONS[self.word][0].split())


class _Operation(StrEnum):
    COUNT = "count"
    LIST = "list"
    SUM = "sum"
    AVERAGE = "average"
    EXTREME = "extreme"


class _Asked:
    """A question about the rows of a table.

    `operation` is None if it asks for nothing that rows are counted or computed for.

    Args:
        terms: Returns the index terms of a text.
    """

    def __init__(self, question: str, terms: Callable[[str], list[str]]) -> None:
        self._terms = terms
        self.limit = _limit_in(question)
        outside = question.replace(self.limit.phrase, " ") if self.limit else question
        self.words_outside = self.words(outside)
        self.negated = bool(_NEGATION.search(outside))
        counted, listed = _COUNT.search(question), _LIST.search(question)
        superlative = _SUPERLATIVE.search(outside)
        self.dimension = ""
        nouns: list[str] = []
        self.operation: _Operation | None = None
        if counted:
            self.operation, nouns = _Operation.COUNT, [counted["noun"]]
        elif _AVERAGE.search(question):
            self.operation = _Operation.AVERAGE
        elif _SUM.search(question):
            self.operation = _Operation.SUM
        elif superlative and not exact_words(question):
            self.operation = _Operation.EXTREME
            self.dimension = superlative["word"].lower()
            nouns = [m["noun"] for m in _COMPARED.finditer(question)] + [superlative["noun"] or ""]
        elif listed:
            self.operation, nouns = _Operation.LIST, [listed["noun"]]
        self._nouns = [words for words in map(self.words, nouns) if words]

    @property
    def calculates(self) -> bool:
        return self.operation in (_Operation.SUM, _Operation.AVERAGE, _Operation.EXTREME)

    @property
    def about(self) -> set[str]:
        """Words for what a superlative compares, as in the names of columns."""
        return set(DIMENSIONS[self.dimension][0].split()) if self.dimension else set()

    def words(self, text: str) -> frozenset[str]:
        """Return the terms of a text's words that say something about rows."""
        words = re.findall(r"[^\W_][\w'-]*", text.lower())
        own = [word for word in words if word not in _PLAIN and word not in DIMENSIONS]
        return frozenset(self._terms(" ".join(own)))

    def noun_of(self, table: TableRows) -> frozenset[str] | None:
        """Return the terms of the question that name a table's rows; None if it asks for others.

        They name the first column, or most of the names in it.
        """
        own = self.words_outside & self.words(table.columns[0])
        if own and self.calculates:
            return own
        return next((noun for noun in self._nouns if self._names_rows(noun, table)), None)

    def _names_rows(self, noun: frozenset[str], table: TableRows) -> bool:
        if noun <= self.words(table.columns[0]):
            return True
        if _ANY_NAME.fullmatch(table.columns[0].strip()):
            first = table.rows[0]
            return noun <= self.words(f"{first.passage.title} {first.heading}")
        return 2 * sum(noun <= self.words(name) for name in table.names()) > len(table.rows)

    def column(
        self, table: TableRows, words: frozenset[str], about: set[str], unit: str = ""
    ) -> int | None:
        """Return the column that is meant: by its name, by what is compared, or by its unit.

        None if there is none, or several are as likely.
        """
        columns = range(1, len(table.columns))
        for wanted in (words, frozenset(self._terms(" ".join(about)))):
            shared = {n: len(self.words(table.columns[n]) & wanted) for n in columns}
            named = [n for n in columns if shared[n] and shared[n] == max(shared.values())]
            if named:
                return named[0] if len(named) == 1 else None
        if about or not unit:
            return None
        fitting = [n for n in columns if unit in {a.unit for a in table.amounts(n) if a}]
        return fitting[0] if len(fitting) == 1 else None


def tabulate(
    question: str,
    ranked: Sequence[Scored],
    whole: Callable[[EvidencePassage], Sequence[EvidencePassage]],
    terms: Callable[[str], list[str]],
) -> Computed | None:
    """Answer a question that counts, lists, adds up or compares rows; None if it is none.

    Args:
        ranked: Statements, best first.
        whole: Returns all passages of a passage's document.
        terms: Returns the index terms of a text.
    """
    asked = _Asked(question, terms)
    if asked.operation is None:
        return None
    for table in _candidates(ranked, whole):
        noun = asked.noun_of(table)
        if noun is None or len(table.rows) < 2:
            continue
        answer = _calculated if asked.calculates else _selected
        result = answer(asked, table, noun)
        if result is not None:
            return result
    return None


def _candidates(
    ranked: Sequence[Scored], whole: Callable[[EvidencePassage], Sequence[EvidencePassage]]
) -> Iterator[TableRows]:
    """Yield the tables of the first statements' rows, best first, each once.

    A document is read once, and only when a table of it is needed.
    """
    documents: dict[str, dict[int, TableRows]] = {}
    tried: set[tuple[str, int]] = set()
    for item in ranked[:_RANKED]:
        row = item.statement
        if row.kind != "row" or not row.columns:
            continue
        document = row.passage.document_id
        if document not in documents:
            tables = tables_in(whole(row.passage))
            documents[document] = {one.start: table for table in tables for one in table.rows}
        table = documents[document].get(row.start)
        if table is not None and (document, table.rows[0].start) not in tried:
            tried.add((document, table.rows[0].start))
            yield table


def _limit_in(question: str) -> _Limit | None:
    for pattern, test in _LIMITS:
        if match := pattern.search(question):
            groups = match.groupdict()
            first = amount_in(groups["first"])
            second = amount_in(groups.get("second") or groups["first"])
            if first is None or second is None:
                return None
            if not first.unit and second.unit:
                first = Amount(first.value, second.unit)
            return _Limit((groups.get("word") or "").lower(), match.group(), first, second, test)
    return None


def _selected(asked: _Asked, table: TableRows, noun: frozenset[str]) -> Computed | None:
    """Count or list the rows that meet what the question asks of them."""
    words = asked.words_outside - noun
    chosen: Sequence[Statement] = table.rows
    shown: int | None = None
    if asked.limit is not None:
        limited = _limited(asked, table, words, asked.limit)
        if limited is None or isinstance(limited, Computed):
            return limited
        chosen, shown = limited
        words -= asked.words(table.columns[shown])
    if words:
        narrowed = _narrowed(asked, table, chosen, words)
        if narrowed is None:
            return None
        chosen, shown = narrowed
    elif asked.limit is None and (asked.operation == _Operation.LIST or asked.negated):
        return None
    return _listed(table, chosen, shown, counts=asked.operation == _Operation.COUNT)


def _limited(
    asked: _Asked, table: TableRows, words: frozenset[str], limit: _Limit
) -> tuple[list[Statement], int] | Computed | None:
    """Return the rows within a limit and the column that it is about, or why there are none."""
    column = asked.column(table, words, limit.about, limit.first.unit)
    if column is None:
        return None
    amounts = table.amounts(column)
    if reason := _not_comparable(table, table.rows, column, amounts, limit.first.unit):
        return Computed(f"The rows cannot be compared: {reason}", ())
    return [
        row
        for row, amount in zip(table.rows, amounts, strict=True)
        if amount is not None and limit.accepts(amount)
    ], column


def _narrowed(
    asked: _Asked, table: TableRows, chosen: Sequence[Statement], words: frozenset[str]
) -> tuple[list[Statement], int] | None:
    """Keep rows with something in the column of that name, or with the words in a cell."""
    for column, name in enumerate(table.columns):
        if column and words <= asked.words(name):
            empty = [bool(NOTHING.fullmatch(row.cells[column])) for row in chosen]
            return [
                row
                for row, is_empty in zip(chosen, empty, strict=True)
                if is_empty == asked.negated
            ], column
    if asked.negated or asked.operation == _Operation.LIST:
        return None
    for column in range(1, len(table.columns)):
        having = {row.start for row in table.rows if words <= asked.words(row.cells[column])}
        if having:
            return [row for row in chosen if row.start in having], column
    return None


def _listed(
    table: TableRows, chosen: Sequence[Statement], shown: int | None, *, counts: bool
) -> Computed:
    if not chosen:
        return Computed(f"None of the {len(table.rows)} in the table.", table.rows[:_MAX_CITED])
    names = []
    for row in chosen[:_MAX_CITED]:
        cell = row.cells[shown].strip() if shown else ""
        names.append(f"{row.cells[0].strip()} ({cell})" if cell else row.cells[0].strip())
    more = len(chosen) - len(names)
    listed = ", ".join(names) + (f" and {more} more" if more else "")
    if counts and shown is None:
        listed = f"The table has {len(chosen)}: {listed}"
    elif counts:
        listed = f"{len(chosen)} of the {len(table.rows)} in the table: {listed}"
    return Computed(f"{listed}.", tuple(chosen[:_MAX_CITED]))


def _calculated(asked: _Asked, table: TableRows, noun: frozenset[str]) -> Computed | None:
    """Add up or average the column that the question names, or return the rows at its end."""
    words = asked.words_outside - noun - asked.words(table.columns[0])
    chosen: Sequence[Statement] = table.rows
    if asked.limit is not None:
        limited = _limited(asked, table, frozenset(), asked.limit)
        if limited is None or isinstance(limited, Computed):
            return limited
        chosen, within = limited
        words -= asked.words(table.columns[within])
    column = asked.column(table, words, asked.about)
    if column is None:
        return None
    words -= asked.words(table.columns[column])
    if words:
        narrowed = _narrowed(asked, table, chosen, words)
        if narrowed is None:
            return None
        chosen = narrowed[0]
    elif asked.negated:
        return None  # it asks for less than the whole column
    amounts = table.amounts(column, chosen)
    extreme = asked.operation == _Operation.EXTREME
    if reason := _not_comparable(table, chosen, column, amounts, ""):
        verb = "compared" if extreme else "added up"
        return Computed(f"The rows cannot be {verb}: {reason}", ())
    known = [row for row, amount in zip(chosen, amounts, strict=True) if amount is not None]
    values = [amount.value for amount in amounts if amount is not None]
    if extreme:
        return _extreme(asked, table, known, values, column)
    total = sum(values)
    averages = asked.operation == _Operation.AVERAGE
    figure = table.written(known, column, total / len(known) if averages else total)
    kind = "on average" if averages else "in all"
    text = f"{table.columns[column]}: {figure} {kind}, of {len(known)} rows."
    return Computed(text, tuple(known[:_MAX_CITED]))


def _extreme(
    asked: _Asked, table: TableRows, rows: list[Statement], values: list[float], column: int
) -> Computed | None:
    """Return the row with the largest or smallest value, or all that share it."""
    best = max(values) if DIMENSIONS[asked.dimension][1] else min(values)
    chosen = [row for row, value in zip(rows, values, strict=True) if value == best]
    names = [row.cells[0].strip() for row in chosen[:_MAX_CITED]]
    if len(chosen) == len(table.rows) or not all(names):
        return None
    listed = " and ".join(filter(None, (", ".join(names[:-1]), names[-1])))
    text = f"{listed}: {table.columns[column].lower()} {chosen[0].cells[column].strip()}."
    return Computed(text, tuple(chosen[:_MAX_CITED]))


def _not_comparable(
    table: TableRows,
    rows: Sequence[Statement],
    column: int,
    amounts: Sequence[Amount | None],
    unit: str,
) -> str:
    """Return why rows cannot be computed with by a column; empty if they can."""
    name = f"the column “{table.columns[column]}”"
    for row, amount in zip(rows, amounts, strict=True):
        cell = row.cells[column].strip()
        if amount is None and not NOTHING.fullmatch(cell):
            return f"{name} has text, such as “{cell[:60]}”."
    units = {amount.unit for amount in amounts if amount is not None}
    if len(units) != 1:
        return f"{name} has several units." if units else f"{name} is empty."
    if unit and unit not in units:
        return f"{name} is in {units.pop()}." if any(units) else f"{name} names no unit."
    return ""
