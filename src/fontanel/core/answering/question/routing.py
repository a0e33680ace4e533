"""Choosing the knowledge bases for a question, by the description of their use."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from fontanel.core.answering.evidence import Knowledge

#: A knowledge base is left out when another's description is this much closer.
_BEHIND, _CLOSE = 0.2, 0.35


@dataclass(frozen=True, slots=True)
class Route:
    """A knowledge base of a desk. Without a line it is used for every question."""

    kb_id: str
    name: str
    use_for: str = ""


@dataclass(frozen=True, slots=True)
class Routes:
    """The knowledge bases to choose from.

    `among` returns the knowledge of some of them.
    """

    routes: Sequence[Route]
    among: Callable[[frozenset[str]], Knowledge]


def choose(
    question: str, routes: Sequence[Route], knowledge: Knowledge
) -> list[tuple[Route, float | None, bool]]:
    """Return each route with its similarity, and whether it is used.

    Similarity is by vectors where there are any, and by the share of the question's words.
    """
    lines = [f"{route.name}: {route.use_for}" for route in routes]
    vectors = knowledge.embed([question, *lines])
    asked = set(knowledge.terms(question))
    weight = sum(knowledge.idf(term) for term in asked) or 1.0
    closeness: list[float | None] = []
    for n, route in enumerate(routes):
        if not route.use_for:
            closeness.append(None)
            continue
        stored = asked & set(knowledge.terms(lines[n]))
        words = sum(knowledge.idf(term) for term in stored) / weight
        meaning = float(vectors[n + 1] @ vectors[0]) if vectors is not None else 0.0
        closeness.append(max(meaning, 0.0) + 0.3 * words)
    best = max((value for value in closeness if value is not None), default=0.0)
    return [
        (route, value, value is None or best < _CLOSE or value >= best - _BEHIND)
        for route, value in zip(routes, closeness, strict=True)
    ]
