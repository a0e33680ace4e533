"""Find what a statement contradicts in its cited passage.

Compares numbers, names, denials and opposites. Shared words are not
enough: "three hours before" and "three hours after" share theirs, and a table contains the figures
of every row.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from fontanel.core.answering.composing.quantities import quantities, uses
from fontanel.core.answering.composing.statements import Statement
from fontanel.core.answering.evidence import EvidencePassage
from fontanel.core.answering.writing.clauses import NEGATION, clause_contradiction

_NUMBER = re.compile(r"\d+(?:[.,:]\d+)*")
_WORD = re.compile(r"[^\W\d_][\w'’-]*")
_TOKEN = re.compile(r"[^\W_]+")
#: Pairs of opposites: a statement with one is not supported by a place with the other.
_OPPOSITES = tuple(
    (re.compile(rf"\b(?:{one})\b", re.I), re.compile(rf"\b(?:{other})\b", re.I))
    for one, other in (
        ("before", "after"),
        (
            "above|over|exceeds?|more than|at least|minimum",
            "below|under|less than|at most|maximum|no more than",
        ),
        ("open|opens|opened", "closed?|closes|shut"),
        ("always", "never"),
        ("first", "last"),
        ("inside|within", "outside"),
        ("allowed|permitted|may", "forbidden|prohibited|must not|may not"),
        ("increases?|raised?", "decreases?|reduced?|lowered"),
        ("port", "starboard"),
        ("north", "south"),
        ("east", "west"),
        ("free", "charged|costs?"),
        ("mandatory|required|must", "optional"),
        ("arrival", "departure"),
        ("day", "night"),
        ("winter", "summer"),
        ("enabled?|on", "disabled?|off"),
    )
)
#: Number words that are as good as their figures.
_FIGURES = {
    word: str(number)
    for number, word in enumerate(
        [
            "zero",
            "one",
            "two",
            "three",
            "four",
            "five",
            "six",
            "seven",
            "eight",
            "nine",
            "ten",
            "eleven",
            "twelve",
        ]
    )
}
_FIGURE_WORD = re.compile(rf"\b(?:{'|'.join(_FIGURES)})\b", re.I)
_ONE = re.compile(r"\bone\b", re.I)
#: Words on either side of a word that show what it applies to.
_NEIGHBOURS = 4


def numbers(text: str) -> set[str]:
    """The numbers of a text in one form: 25,000 is 25000, seven is 7, 5.0 is 5."""
    results = set()
    for number in _NUMBER.findall(text):
        plain = re.sub(r",(?=\d{3}\b)", "", number)
        results.add(plain.rstrip("0").rstrip(".") if re.fullmatch(r"\d+\.\d+", plain) else plain)
    return results | {
        _FIGURES[word] for word in re.findall(r"[a-z]+", text.lower()) if word in _FIGURES
    }


def names(text: str) -> set[str]:
    """Return the names in a sentence: capitalised words, and those with digits."""
    results = set()
    for position, match in enumerate(_WORD.finditer(text)):
        word = match.group()
        inner = position > 0 and not re.search(r"[.!?:\n“\"(•-]\s*$", text[: match.start()])
        if (word[0].isupper() and inner and len(word) > 1) or (len(word) > 1 and word.isupper()):
            results.add(re.sub(r"['’]s$", "", word).lower())
    return results


def contradicted(
    statement: str, units: Sequence[Statement], around: str, cited: Sequence[EvidencePassage]
) -> str:
    """Return what a statement contradicts, '' if nothing.

    Args:
        units: The closest sentences and rows of the cited passages.
        around: Their headings, and the question.
    """
    near = " ".join(f"{unit.lead} {unit.text}" for unit in units)
    # "One" is a pronoun more often than a number.
    plain = _ONE.sub(" ", statement)
    if missing := numbers(plain) - numbers(near) - numbers(around):
        return f"The cited passage does not contain the number {', '.join(sorted(missing))}."
    if other := _other_unit(plain, f"{near} {around}"):
        return other
    text = f"{around} {' '.join(p.text for p in cited)}".lower()
    if unknown := {name for name in names(statement) if name not in text}:
        return f"The cited passage does not mention {', '.join(sorted(unknown))}."
    if bool(NEGATION.search(statement)) != bool(NEGATION.search(near)) and not _excused(
        statement, near
    ):
        return (
            "The cited place denies it."
            if NEGATION.search(near)
            else "The cited place does not deny it."
        )
    if any(
        _opposed(statement, near, *pair) or _opposed(statement, near, *pair[::-1])
        for pair in _OPPOSITES
    ):
        return "The cited place says the opposite."
    return _other_row(statement, units, around) or clause_contradiction(statement, units, around)


def _other_unit(statement: str, place: str) -> str:
    """Return a quantity whose number has another unit there, or is a name."""
    in_figures = _in_figures(place)
    for value, unit in sorted(quantities(_in_figures(statement))):
        result = uses(value, in_figures)
        if result and not result & {unit, ""}:
            return f"The cited place does not say {value:g} of the unit {unit}."
    return ""


def _in_figures(text: str) -> str:
    return _FIGURE_WORD.sub(lambda match: _FIGURES[match.group().lower()], text)


def _excused(statement: str, near: str) -> bool:
    """Return whether the closest clause excuses a denial of something else."""
    own = {word.lower() for word in _WORD.findall(statement) if len(word) > 3}
    clauses = [
        clause
        for clause in re.split(r"[.;:!?,\n]|\b(?:but|and|or|unless|except|while|although)\b", near)
        if clause.strip()
    ]
    if not clauses or not own:
        return False

    def shared(clause: str) -> int:
        return len(own & {word.lower() for word in _WORD.findall(clause)})

    most = max(map(shared, clauses))
    nearest = [clause for clause in clauses if shared(clause) == most]
    return most > 0 and any(
        bool(NEGATION.search(c)) == bool(NEGATION.search(statement)) for c in nearest
    )


def _opposed(statement: str, near: str, mine: re.Pattern[str], theirs: re.Pattern[str]) -> bool:
    """Return whether the statement uses a word whose opposite the place uses.

    Where the place uses both, the neighbouring words decide.
    """
    if not mine.search(statement) or not theirs.search(near):
        return False
    if not mine.search(near):
        return not theirs.search(statement)
    same, other = _sides(mine, near), _sides(theirs, near)
    return any(
        max(len(own & sides) for sides in other) > max(len(own & sides) for sides in same)
        for own in _sides(mine, statement)
    )


def _sides(word: re.Pattern[str], text: str) -> list[set[str]]:
    """Return the words and numbers around each occurrence of a word, with their side."""
    results = []
    for match in word.finditer(text):
        before, after = (
            _TOKEN.findall(text[: match.start()].lower()),
            _TOKEN.findall(text[match.end() :].lower()),
        )
        sides = {f"{token}<" for token in before[-_NEIGHBOURS:]} | {
            f"{token}>" for token in after[:_NEIGHBOURS]
        }
        results.append(sides)
    return results


def _other_row(statement: str, units: Sequence[Statement], around: str) -> str:
    """Return a figure that occurs only in the rows of other things."""
    rows = [
        (label, numbers(unit.text))
        for unit in units
        if unit.kind == "row" and re.search(r"[^\W\d_]", label := unit.cells[0].strip())
    ]
    named = {
        label: [
            match.start()
            for match in re.finditer(rf"(?<!\w){re.escape(label)}(?!\w)", statement, re.I)
        ]
        for label, _ in rows
    }
    places = sorted((at, label) for label, result in named.items() for at in result)
    if not places:
        return ""
    elsewhere = numbers(around) | {
        n for unit in units if unit.kind != "row" for n in numbers(unit.text)
    }
    for match in _NUMBER.finditer(statement):
        [figure] = numbers(match.group()) or {""}
        holders = {label for label, figures in rows if figure in figures}
        if figure in elsewhere or not holders or any(figure in numbers(label) for label in named):
            continue
        before = [label for at, label in places if at <= match.start()][-1:]
        after = [label for at, label in places if at > match.start()][:1]
        if not holders & {*before, *after}:
            return f"The cited table gives {match.group()} for {', '.join(sorted(holders))}."
    return ""
