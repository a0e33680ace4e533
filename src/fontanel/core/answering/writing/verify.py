"""Verification: whether the passages that a statement cites support it.

Every number, name and negation of a statement must occur in what it cites, and its words or its
meaning must be close. Everything that a model writes is checked, sentence by sentence.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from fontanel.core.answering.composing.statements import Statement, statements
from fontanel.core.answering.events import Verdict
from fontanel.core.answering.evidence import EvidencePassage, Knowledge
from fontanel.core.answering.writing.contradictions import contradicted, numbers

#: The share of a statement's words that must be covered, and the share that is enough when the
#: meaning is close.
_COVERED, _HALF_COVERED = 0.7, 0.45
_CLOSE = 0.62
#: How many sentences of the cited passages are combined.
_TOGETHER = 3


@dataclass(frozen=True, slots=True)
class Quote:
    """The characters [start, end) of a revision that best support a statement."""

    passage: EvidencePassage
    first: Statement
    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Check:
    """The result of a check.

    `support` is the share of words covered, `reason` what is not.
    """

    verdict: Verdict
    support: float
    reason: str = ""
    quotes: tuple[Quote, ...] = ()


def support(statement: str, quote: str, terms: Callable[[str], list[str]]) -> float:
    """Return the share, 0-1, of a statement's terms in its quote.

    0 for a missing number.
    """
    if not numbers(statement) <= numbers(quote):
        return 0.0
    requested = set(terms(statement))
    return len(requested & set(terms(quote))) / len(requested) if requested else 1.0


def check(
    statement: str, cited: Sequence[EvidencePassage], question: str, knowledge: Knowledge
) -> Check:
    """Check a statement against the passages that it cites."""
    if not states_something(statement, knowledge):
        return Check(Verdict.NONE, 1.0)
    if not cited:
        return Check(Verdict.UNCITED, 0.0, "It cites no source.")
    weights = {term: max(knowledge.idf(term), 0.1) for term in knowledge.terms(statement)}
    units = [unit for passage in cited for unit in statements(passage)]
    if not units:
        return Check(Verdict.WEAK, 0.0, "The cited passage contains no statement.")
    stored = [set(knowledge.terms(f"{unit.lead} {unit.text}")) for unit in units]
    best = _together(statement, weights, units, stored)
    # Titles, headings and the question name what a sentence is about, but are not its content.
    around = " ".join(
        dict.fromkeys(
            [
                *(" ".join((p.title, p.context, *p.locator.heading_path)) for p in cited),
                *(units[n].locator.heading_path[-1] for n in best if units[n].locator.heading_path),
                question,
            ]
        )
    )
    words = set().union(*(stored[n] for n in best))
    lent = set(knowledge.terms(around))
    total = sum(weights.values()) or 1.0
    met = sum(w for term, w in weights.items() if term in words)
    covered = (
        met + 0.8 * sum(w for term, w in weights.items() if term in lent and term not in words)
    ) / total
    quotes = tuple(_quotes(units, stored, best, weights))
    reason = contradicted(statement, [units[n] for n in best], around, cited)
    if not reason and covered < _COVERED:
        similar = _similarity(statement, [units[n] for n in best], knowledge)
        if covered < _HALF_COVERED or similar is None or similar < _CLOSE:
            missing = [
                term
                for term in sorted(weights, key=lambda t: -weights[t])
                if term not in words | lent
            ][:4]
            reason = f"The cited place does not speak of it ({', '.join(missing)})."
    return Check(
        Verdict.WEAK if reason else Verdict.SUPPORTED, round(min(covered, 1.0), 4), reason, quotes
    )


def states_something(statement: str, knowledge: Knowledge) -> bool:
    """Return whether a text states anything, unlike a lead-in or heading."""
    plain = statement.strip().strip("*#|-: ")
    if not plain or re.fullmatch(r"[\s|:-]*", statement):
        return False
    if statement.rstrip().endswith(":") and not numbers(statement):
        return False
    return bool(knowledge.terms(plain))


def _together(
    statement: str, weights: dict[str, float], units: list[Statement], unit_terms: list[set[str]]
) -> list[int]:
    """Return the few sentences that together cover most of the statement, best first."""
    requested, figures = dict(weights), numbers(statement)
    chosen: list[int] = []
    for _ in range(_TOGETHER):
        gains = [
            sum(requested.get(term, 0.0) for term in words)
            + 2.0 * len(figures & numbers(unit.text))
            for words, unit in zip(unit_terms, units, strict=True)
        ]
        place = max(
            (n for n in range(len(units)) if n not in chosen), key=lambda n: gains[n], default=None
        )
        # A further sentence must bring a figure, or more than a stray word.
        if place is None or (chosen and gains[place] < max(1.0, 0.15 * sum(weights.values()))):
            break
        chosen.append(place)
        figures -= numbers(units[place].text)
        requested = {
            term: weight for term, weight in requested.items() if term not in unit_terms[place]
        }
    return chosen


def _quotes(
    units: list[Statement], unit_terms: list[set[str]], best: list[int], weights: dict[str, float]
) -> list[Quote]:
    """Return, for each passage used, the run of sentences around its best one."""
    quotes: list[Quote] = []
    for place in best:
        if any(quote.passage is units[place].passage for quote in quotes):
            continue
        first = last = place
        while first - 1 in best and units[first - 1].passage is units[place].passage:
            first -= 1
        while last + 1 in best and units[last + 1].passage is units[place].passage:
            last += 1
        quotes.append(
            Quote(units[place].passage, units[first], units[first].start, units[last].end)
        )
    return quotes


def _similarity(statement: str, units: list[Statement], knowledge: Knowledge) -> float | None:
    vectors = knowledge.embed([statement, *(unit.text for unit in units)])
    return None if vectors is None else float((vectors[1:] @ vectors[0]).max())
