"""Where the subject of a sentence ends, and its verb begins."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.proposing.clauses import clause_of, has_pronoun


@pytest.mark.parametrize(
    ("sentence", "subject", "verb", "rest"),
    [
        ("Line handlers are compulsory.", "Line handlers", "are", "compulsory"),
        ("The agent may book a berth.", "The agent", "may", "book a berth"),
        ("Hot work needs a permit.", "Hot work", "needs", "a permit"),
        ("Ships of the trust pay half.", "Ships of the trust", "pay", "half"),
        ("The gate opens at noon.", "The gate", "opens", "at noon"),
        ("Moderate private use is fine.", "Moderate private use", "is", "fine"),
    ],
)
def test_plain_sentences_have_a_subject(sentence: str, subject: str, verb: str, rest: str) -> None:
    clause = clause_of(sentence)
    assert clause is not None
    assert (clause.subject, clause.verb, clause.rest) == (subject, verb, rest)
    assert clause.plural == (bool(clause.base) and clause.verb == clause.base)


@pytest.mark.parametrize(
    "sentence",
    [
        "It costs 4 crowns.",
        "There are three gates.",
        "If the flag is shown, divers may work.",
        "What is a berth?",
        "The ship that is late may wait.",
        "Those of Berth 4 hold 60 tonnes.",
        "No crane may work.",
        "On Sundays the gate is closed.",
        "The officer could not begin work.",
        "",
    ],
)
def test_other_sentences_have_none(sentence: str) -> None:
    assert clause_of(sentence) is None


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("refuse it", True),
        ("their masters", True),
        ("a berth", False),
        ("iterate", False),
    ],
)
def test_pronouns_are_found(text: str, expected: bool) -> None:
    assert has_pronoun(text) is expected


@given(st.text(max_size=120))
def test_any_text_can_be_split(text: str) -> None:
    clause = clause_of(text)
    if clause is not None:
        assert clause.subject
        assert clause.rest
