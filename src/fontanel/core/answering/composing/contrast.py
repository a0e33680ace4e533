"""Questions that compare two things: both are quoted, or the missing one is named."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from fontanel.core.answering.composing.asked import Scored
from fontanel.core.answering.composing.statements import Statement

_THING = r"(?:(?:a|an|the|our|your)\s+)?(?P<{name}>\S.{{0,60}}?)"
_ONE, _OTHER = _THING.format(name="one"), _THING.format(name="other")
#: What the two are compared by, which is not part of the second one's name.
_END = r"(?:\s+(?:in|at|by|with regard to|regarding|when it comes to)\s+[^?]+)?\s*[?.]?\s*$"
_PAIRS = tuple(
    re.compile(pattern, re.I)
    for pattern in (
        rf"\bcompar(?:e|ed|ing|ison of)\s+{_ONE}\s+(?:and|with|to)\s+{_OTHER}{_END}",
        rf"\bdifferences?\b[^?]{{0,40}}?\bbetween\s+{_ONE}\s+and\s+{_OTHER}{_END}",
        rf"\bdistinguishes\s+{_ONE}\s+from\s+{_OTHER}{_END}",
        rf"\bhow\s+(?:do|does|is|are)\s+{_ONE}\s+(?:and|from)\s+{_OTHER}\s+(?:differ|compare)\b",
        rf"\bhow\s+(?:do|does|is|are)\s+{_ONE}\s+(?:differ|different)\s+from\s+{_OTHER}{_END}",
        rf"\bhow\s+(?:do|does)\s+{_ONE}\s+compare\s+(?:with|to)\s+{_OTHER}{_END}",
        rf"^\W*{_ONE}\s+(?:vs\.?|versus)\s+{_OTHER}{_END}",
    )
)
#: How far behind the best statement the best one about a thing may be.
_BEHIND = 0.35


def compared(question: str) -> tuple[str, str] | None:
    """Return the two things that a question compares, as it calls them."""
    for pattern in _PAIRS:
        if match := pattern.search(question):
            return match["one"].strip(" ,"), match["other"].strip(" ,")
    return None


def with_both(
    question: str,
    chosen: Sequence[Statement],
    ranked: Sequence[Scored],
    terms: Callable[[str], list[str]],
) -> tuple[list[Statement], tuple[str, ...]]:
    """Add the best statement about each compared thing that no chosen statement is about.

    Args:
        terms: Returns the index terms of a text.

    Returns:
        The statements, and the things that no statement is about.
    """
    pair = compared(question)
    if pair is None or not ranked:
        return list(chosen), ()
    results, absent = list(chosen), []
    for thing, wanted in zip(pair, _distinct(*map(terms, pair)), strict=True):
        if not wanted or any(_is_about(statement, wanted, terms) for statement in results):
            continue
        found = next((item for item in ranked if _is_about(item.statement, wanted, terms)), None)
        if found is None:
            absent.append(thing)
        elif found.score >= ranked[0].score - _BEHIND:
            results.append(found.statement)
    return results, tuple(absent)


def _distinct(one: list[str], other: list[str]) -> tuple[set[str], set[str]]:
    """Return the terms that tell each thing from the other.

    "The fees for visitors and residents": of the longer one, only the last terms are its own.
    """
    first = [term for term in one if term not in other]
    second = [term for term in other if term not in one]
    if first and second:
        first = first[-len(second) :]
    return set(first), set(second)


def _is_about(statement: Statement, wanted: set[str], terms: Callable[[str], list[str]]) -> bool:
    return wanted <= set(terms(statement.in_context))
