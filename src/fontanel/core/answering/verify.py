"""Verification: whether the passages that a statement cites carry it.

Every number, name and negation of a statement must be in what it cites, and its words or its meaning must be close; whatever a
model writes is checked so, sentence by sentence.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from fontanel.core.answering.events import Verdict
from fontanel.core.answering.evidence import EvidencePassage, Knowledge
from fontanel.core.answering.statements import Statement, statements

_NUMBER = re.compile(r"\d+(?:[.,:]\d+)*")
_WORD = re.compile(r"[^\W\d_][\w'’-]*")
#: Words that turn a statement around.
_NEGATION = re.compile(
    r"\b(?:not|no|never|none|nobody|nothing|neither|nor|without|cannot|forbidden|prohibited|banned|refused?|"
    r"nicht|kein\w*|nie|ohne|verboten|pas|jamais|aucune?|sans|interdit\w*|nunca|sin|ningún|ninguna|prohibid[oa]s?)\b|n['’]t\b", re.I,
)  # fmt: skip
#: Words of which one says the opposite of the other: a statement with one of them is not carried by a place with the other.
_OPPOSITES = tuple(
    (re.compile(rf"\b(?:{one})\b", re.I), re.compile(rf"\b(?:{other})\b", re.I))
    for one, other in (
        ("before", "after"), ("above|over|exceeds?|more than|at least|minimum", "below|under|less than|at most|maximum|no more than"),
        ("open|opens|opened", "closed?|closes|shut"), ("always", "never"), ("first", "last"), ("inside|within", "outside"),
        ("allowed|permitted|may", "forbidden|prohibited|must not|may not"), ("increases?|raised?", "decreases?|reduced?|lowered"),
        ("port", "starboard"), ("north", "south"), ("east", "west"), ("free", "charged|costs?"), ("mandatory|required|must", "optional"),
        ("arrival", "departure"), ("day", "night"), ("winter", "summer"), ("enabled?|on", "disabled?|off"),
    )
)  # fmt: skip
#: Number words that are as good as their figures.
_FIGURES = {
    word: str(number)
    for number, word in enumerate("zero one two three four five six seven eight nine ten eleven twelve".split())
}
#: The share of a statement's words that must be met, and the share that is enough when the meaning is close.
_COVERED, _HALF_COVERED = 0.7, 0.45
_CLOSE = 0.62
#: How many sentences of the cited passages are looked at together.
_TOGETHER = 3


@dataclass(frozen=True, slots=True)
class Quote:
    """The place of a passage that carries a statement best: characters [start, end) of its revision."""

    passage: EvidencePassage
    first: Statement
    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Check:
    """What checking a statement gave. `support` is the share, 0-1, of its words that are met; `reason` says what is not."""

    verdict: Verdict
    support: float
    reason: str = ""
    quotes: tuple[Quote, ...] = ()


def support(statement: str, quote: str, terms: Callable[[str], list[str]]) -> float:
    """The share, 0-1, of a statement's terms that its quote holds; 0 when it states a number that the quote does not."""
    if not numbers(statement) <= numbers(quote):
        return 0.0
    wanted = set(terms(statement))
    return len(wanted & set(terms(quote))) / len(wanted) if wanted else 1.0


def numbers(text: str) -> set[str]:
    """The numbers of a text in one form: 25,000 is 25000, seven is 7, 5.0 is 5."""
    found = set()
    for number in _NUMBER.findall(text):
        plain = re.sub(r",(?=\d{3}\b)", "", number)
        found.add(plain.rstrip("0").rstrip(".") if re.fullmatch(r"\d+\.\d+", plain) else plain)
    return found | {_FIGURES[word] for word in re.findall(r"[a-z]+", text.lower()) if word in _FIGURES}


def names(text: str) -> set[str]:
    """Words of a sentence that are written with a capital within it, and words of capitals and digits."""
    found = set()
    for position, match in enumerate(_WORD.finditer(text)):
        word = match.group()
        inner = position > 0 and not re.search(r"[.!?:\n“\"(•-]\s*$", text[: match.start()])
        if (word[0].isupper() and inner and len(word) > 1) or (len(word) > 1 and word.isupper()):
            found.add(re.sub(r"['’]s$", "", word).lower())
    return found


def check(statement: str, cited: Sequence[EvidencePassage], question: str, knowledge: Knowledge) -> Check:
    """Check a statement against the passages that it cites."""
    if not states_something(statement, knowledge):
        return Check(Verdict.NONE, 1.0)
    if not cited:
        return Check(Verdict.UNCITED, 0.0, "It cites no source.")
    weights = {term: max(knowledge.idf(term), 0.1) for term in knowledge.terms(statement)}
    units = [unit for passage in cited for unit in statements(passage)]
    if not units:
        return Check(Verdict.WEAK, 0.0, "The cited place holds no statement.")
    held = [set(knowledge.terms(f"{unit.lead} {unit.text}")) for unit in units]
    best = _together(statement, weights, units, held)
    near = " ".join(f"{units[n].lead} {units[n].text}" for n in best)
    # Titles, headings and the question name what a sentence is about without being what it says.
    around = " ".join(
        dict.fromkeys([*(" ".join((p.title, p.context, *p.locator.heading_path)) for p in cited), *(units[n].locator.heading_path[-1] for n in best if units[n].locator.heading_path), question])
    )  # fmt: skip
    words = set().union(*(held[n] for n in best))
    lent = set(knowledge.terms(around))
    total = sum(weights.values()) or 1.0
    met = sum(w for term, w in weights.items() if term in words)
    covered = (met + 0.8 * sum(w for term, w in weights.items() if term in lent and term not in words)) / total
    quotes = tuple(_quotes(units, held, best, weights))
    reason = _contradicted(statement, near, around, cited)
    if not reason and covered < _COVERED:
        similar = _similarity(statement, [units[n] for n in best], knowledge)
        if covered < _HALF_COVERED or similar is None or similar < _CLOSE:
            missing = [term for term in sorted(weights, key=lambda t: -weights[t]) if term not in words | lent][:4]
            reason = f"The cited place does not speak of it ({', '.join(missing)})."
    return Check(Verdict.WEAK if reason else Verdict.SUPPORTED, round(min(covered, 1.0), 4), reason, quotes)


def states_something(statement: str, knowledge: Knowledge) -> bool:
    """Whether there is anything to check: a lead-in ("The rules are:"), a table's rule or a bare heading states nothing."""
    plain = statement.strip().strip("*#|-: ")
    if not plain or re.fullmatch(r"[\s|:-]*", statement):
        return False
    if statement.rstrip().endswith(":") and not numbers(statement):
        return False
    return bool(knowledge.terms(plain))


def _together(statement: str, weights: dict[str, float], units: list[Statement], held: list[set[str]]) -> list[int]:
    """The few sentences that together meet most of the statement, the most telling first."""
    wanted, figures = dict(weights), numbers(statement)
    chosen: list[int] = []
    for _ in range(_TOGETHER):
        gains = [
            sum(wanted.get(term, 0.0) for term in words) + 2.0 * len(figures & numbers(unit.text))
            for words, unit in zip(held, units, strict=True)
        ]
        place = max((n for n in range(len(units)) if n not in chosen), key=lambda n: gains[n], default=None)
        # A further sentence must bring a figure, or more than a stray word.
        if place is None or (chosen and gains[place] < max(1.0, 0.15 * sum(weights.values()))):
            break
        chosen.append(place)
        figures -= numbers(units[place].text)
        wanted = {term: weight for term, weight in wanted.items() if term not in held[place]}
    return chosen


def _quotes(units: list[Statement], held: list[set[str]], best: list[int], weights: dict[str, float]) -> list[Quote]:
    """For each passage that takes part, the run of sentences around its most telling one."""
    quotes: list[Quote] = []
    for place in best:
        if any(quote.passage is units[place].passage for quote in quotes):
            continue
        first = last = place
        while first - 1 in best and units[first - 1].passage is units[place].passage:
            first -= 1
        while last + 1 in best and units[last + 1].passage is units[place].passage:
            last += 1
        quotes.append(Quote(units[place].passage, units[first], units[first].start, units[last].end))
    return quotes


def _contradicted(statement: str, near: str, around: str, cited: Sequence[EvidencePassage]) -> str:
    """What the statement says otherwise than the places that come nearest to it; '' when nothing."""
    if missing := numbers(statement) - numbers(near) - numbers(around):
        return f"The cited place does not hold the number {', '.join(sorted(missing))}."
    text = f"{around} {' '.join(p.text for p in cited)}".lower()
    if unknown := {name for name in names(statement) if name not in text}:
        return f"The cited place does not name {', '.join(sorted(unknown))}."
    if bool(_NEGATION.search(statement)) != bool(_NEGATION.search(near)) and not _excused(statement, near):
        return "The cited place denies it." if _NEGATION.search(near) else "The cited place does not deny it."
    for one, other in _OPPOSITES:
        for mine, theirs in ((one, other), (other, one)):
            if (
                mine.search(statement)
                and not theirs.search(statement)
                and theirs.search(near)
                and not mine.search(near)
            ):
                return "The cited place says the opposite."
    return ""


def _excused(statement: str, near: str) -> bool:
    """A place that denies one thing beside another may carry the other: the clause that comes nearest decides."""
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
    return most > 0 and any(bool(_NEGATION.search(c)) == bool(_NEGATION.search(statement)) for c in nearest)


def _similarity(statement: str, units: list[Statement], knowledge: Knowledge) -> float | None:
    vectors = knowledge.embed([statement, *(unit.text for unit in units)])
    return None if vectors is None else float((vectors[1:] @ vectors[0]).max())
