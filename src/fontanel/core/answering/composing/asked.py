"""A question as the composer sees it, and statements with their scores."""

from __future__ import annotations

import re
from dataclasses import dataclass

from fontanel.core.answering.composing.statements import Statement
from fontanel.core.answering.evidence import Knowledge, Support
from fontanel.core.answering.question.followup import split_search_form
from fontanel.core.answering.question.required import exact_names, names_in
from fontanel.core.answering.question.shape import shape_of
from fontanel.core.arrays import Floats
from fontanel.core.validity import asks_for_earlier, years_in

_NUMBERED = re.compile(r"\b[A-Z][\w-]*\s+\d+[A-Za-z]?\b")


_IDENTIFIER = re.compile(r"\b[A-Za-z]+[-_.]?\d[\w-]*")


@dataclass(frozen=True, slots=True)
class Scored:
    """A statement with its score and the parts of the score."""

    statement: Statement
    score: float
    cosine: float
    coverage: float


@dataclass(frozen=True, slots=True)
class Computed:
    """The result of a comparison or a computation, and the statements that it rests on.

    Without statements, `text` is the reason why there is no result.
    """

    text: str
    statements: tuple[Statement, ...]


@dataclass(frozen=True, slots=True)
class Draft:
    """What the composer would quote, best statement first, and its evidence.

    `computed` answers a question that counts, lists or adds up rows of a table. `missing` are exact
    names in the question that the quoted documents' passages do not contain, `nearest` is the name
    there that is most like the first of them. `unquoted` are things to be compared that no
    statement is about.
    """

    ranked: list[Scored]
    chosen: list[Statement]
    support: Support
    keyword_only: bool
    missing: tuple[str, ...] = ()
    nearest: str = ""
    unquoted: tuple[str, ...] = ()
    computed: Computed | None = None


class Question:
    """A question's terms with their weights, its exact names, its vector and its shape.

    Args:
        names: The text of which the exact names must be in the evidence; default: the question.
    """

    def __init__(self, standalone: str, knowledge: Knowledge, names: str | None = None) -> None:
        self.text = standalone
        own, topic = split_search_form(standalone)
        self.own = own
        self.shape = shape_of(own)
        self.names = own if names is None else names
        self.exact = {name.lower() for name in exact_names(self.names)} | exact_words(self.names)
        self.asks_old = asks_for_earlier(own) or bool(years_in(own))
        self.weights: dict[str, float] = {
            term: knowledge.idf(term) for term in knowledge.terms(own)
        }
        # Words from the conversation count, but less than those of the question itself.
        for term in knowledge.terms(topic):
            self.weights.setdefault(term, 0.5 * knowledge.idf(term))
        self.total = sum(self.weights.values())
        vectors = knowledge.embed([standalone])
        self.vector: Floats | None = None if vectors is None else vectors[0]

    def named_in(self, text: str) -> set[str]:
        """Return the question's exact names that a text contains."""
        return names_in(text, self.exact) if self.exact else set()

    def coverage(self, terms: set[str]) -> float:
        return (
            sum(weight for term, weight in self.weights.items() if term in terms) / self.total
            if self.total
            else 0.0
        )


def exact_words(text: str) -> set[str]:
    """Return numbered names ("Berth 4") and identifiers, which need exact matches.

    Bare quantities are not included: 12 metres may be met by a range.
    """
    named = {" ".join(match.split()).lower() for match in _NUMBERED.findall(text)}
    return named | {word.lower() for word in _IDENTIFIER.findall(text)}


def embedded_form(statement: Statement) -> str:
    lead = statement.lead if statement.kind == "item" else ""
    return (
        f"{statement.heading}: {lead} {statement.text}"
        if lead
        else f"{statement.heading}: {statement.text}"
    )
