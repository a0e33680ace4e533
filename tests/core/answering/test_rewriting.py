"""Follow-ups made whole: what every rewritten question has in common, and what is left alone."""

from __future__ import annotations

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.answering.question.rewriting import rewrite, with_antecedent
from fontanel.core.text.analysis import analyser_of

TERMS = analyser_of("en").terms

THINGS = ["crane", "ferry", "gate", "lock", "pilot boat", "shed"]
TIMES = ["day", "night", "noon", "summer", "winter", "Sundays", "Saturdays", "the weekend"]
PREPOSITIONS = ["at", "by", "on", "in", "during", "after", "before"]


@given(st.sampled_from(THINGS), st.sampled_from(THINGS))
def test_another_thing_takes_the_place_of_the_first(first: str, second: str) -> None:
    whole = rewrite(f"And the {second}?", f"Who may open the {first}?", TERMS)
    same = TERMS(first)[-1] == TERMS(second)[-1]
    assert whole == (f"Who may open the {second}?" if same else None)


@given(
    st.sampled_from(THINGS),
    st.sampled_from(TIMES),
    st.sampled_from(TIMES),
    st.sampled_from(PREPOSITIONS),
    st.sampled_from(PREPOSITIONS),
)
def test_another_time_takes_the_place_of_the_first(
    thing: str, first: str, second: str, before: str, after: str
) -> None:
    whole = rewrite(f"And {after} {second}?", f"Who opens the {thing} {before} {first}?", TERMS)
    assert whole == f"Who opens the {thing} {after} {second}?"


@given(st.sampled_from(THINGS), st.sampled_from(TIMES), st.sampled_from(PREPOSITIONS))
def test_a_time_is_added_where_there_was_none(thing: str, time: str, preposition: str) -> None:
    whole = rewrite(f"And {preposition} {time}?", f"Who opens the {thing}?", TERMS)
    assert whole == f"Who opens the {thing} {preposition} {time}?"


@given(st.text(max_size=60), st.text(max_size=90))
def test_what_is_made_is_a_question_and_not_longer_than_both(question: str, before: str) -> None:
    whole = rewrite(question, before, TERMS)
    if whole is not None:
        assert whole.endswith("?")
        assert len(whole) <= len(question) + len(before) + 2


@given(st.text(max_size=60), st.text(max_size=90), st.lists(st.text(max_size=20), max_size=3))
def test_it_is_gone_where_something_stands_for_it(
    question: str, before: str, titles: list[str]
) -> None:
    whole = with_antecedent(question, before, titles)
    if whole is not None and not re.search(r"\bits?\b", " ".join((before, *titles)), re.I):
        assert not re.search(r"\bits?\b", whole, re.I)


@pytest.mark.parametrize("question", ["Why?", "And who pays?", "Is that so?", "", "And?", "???"])
def test_what_has_no_phrase_is_left_alone(question: str) -> None:
    assert rewrite(question, "Who may open the gate?", TERMS) is None
