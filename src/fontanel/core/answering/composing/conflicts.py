"""Documents that disagree: another figure for the same thing in another document."""

from __future__ import annotations

import re
from collections.abc import Sequence

from fontanel.core.answering.composing.asked import Scored, exact_words
from fontanel.core.answering.composing.quantities import quantities
from fontanel.core.answering.composing.statements import Statement
from fontanel.core.answering.evidence import Knowledge
from fontanel.core.answering.writing.contradictions import names

#: The shared words, and the similarity, from which two statements are about the same thing.
_SHARED, _SAME_MEANING = 0.7, 0.72
_MIN_WORDS = 3


def conflicting(
    chosen: Sequence[Statement], ranked: Sequence[Scored], knowledge: Knowledge
) -> list[Statement]:
    """Return a statement of an uncited document that gives another figure.

    It is about the same thing as the first chosen statement: same words, names and unit, another
    number.
    """
    first = chosen[0]
    mine = quantities(first.text)
    if not mine:
        return []
    own = _words(first, knowledge)
    quoted = {statement.passage.document_id for statement in chosen}
    for item in ranked:
        other = item.statement
        if other.passage.document_id in quoted or other.passage.demoted:
            continue
        theirs = quantities(other.text)
        units = {unit for _, unit in mine} & {unit for _, unit in theirs}
        differing = [
            u
            for u in units
            if not {n for n, unit in mine if unit == u} & {n for n, unit in theirs if unit == u}
        ]
        if not differing or not _same_subject(first, other):
            continue
        words = _words(other, knowledge)
        shared = own & words
        if len(shared) < _MIN_WORDS or _weight(shared, knowledge) < _SHARED * _weight(
            own | words, knowledge
        ):
            continue
        vectors = knowledge.embed([first.text, other.text])
        if vectors is None or float(vectors[0] @ vectors[1]) >= _SAME_MEANING:
            return [other]
    return []


def _same_subject(one: Statement, other: Statement) -> bool:
    """Return whether neither names what the other does not.

    Headings count for numbers.
    """
    if names(one.text) != names(other.text) or exact_words(one.text) != exact_words(other.text):
        return False
    mine, theirs = (exact_words(" ".join(s.locator.heading_path)) for s in (one, other))
    return not mine or not theirs or mine == theirs


def _words(statement: Statement, knowledge: Knowledge) -> set[str]:
    return {
        term
        for term in knowledge.terms(re.sub(r"\d[\d.,]*", " ", statement.text))
        if not term.isdigit()
    }


def _weight(terms: set[str], knowledge: Knowledge) -> float:
    return sum(max(knowledge.idf(term), 0.1) for term in terms)
