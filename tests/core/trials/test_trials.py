"""Judging answers, intervals and tests of shares, and the comparison of two trials."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.trials import (
    RIGHT_RESULTS,
    Change,
    Cited,
    Expectation,
    Given,
    Result,
    compare,
    judge,
    quantile,
    share,
    sign_test,
)

CRANE = Cited(("doc_1", "storm.md", "Storm plan"), "The crane stops at 38 knots.")
RESULTS = st.sampled_from(list(Result))


def answered(text: str, *citations: Cited) -> Given:
    return Given(False, text, citations)


@pytest.mark.parametrize(
    ("expected", "given_", "result", "cited"),
    [
        (
            Expectation(contains=("38 knots",)),
            answered("**38 knots** [1].", CRANE),
            "right",
            True,
        ),
        (Expectation(contains=("38 knots",)), answered("At 138 knots.", CRANE), "wrong", True),
        (Expectation(contains=("38",)), answered("At 38.5 knots.", CRANE), "wrong", True),
        (Expectation(contains=("1200 t",)), answered("Up to 1,200 t."), "right", False),
        (Expectation(contains=("noon|12:00",)), answered("It closes at 12:00."), "right", False),
        (Expectation(contains=("gate", "noon")), answered("At noon."), "wrong", False),
        (Expectation(documents=("storm.md",)), answered("At 38.", CRANE), "right", True),
        (Expectation(documents=("other.md",)), answered("At 38.", CRANE), "wrong", False),
        (
            Expectation(quotes=("crane stops at 38 knots",)),
            answered("Then.", CRANE),
            "right",
            True,
        ),
        (
            Expectation(quotes=("The crane is pinned at 44 knots",)),
            answered("Then.", CRANE),
            "wrong",
            False,
        ),
        (Expectation(must_decline=True), answered("At 38.", CRANE), "not_declined", True),
        (Expectation(must_decline=True), Given(True, "", ()), "declined_rightly", None),
        (Expectation(contains=("38",)), Given(True, "", ()), "declined", None),
        (Expectation(), answered("At 38.", CRANE), "unjudged", True),
        (Expectation(), Given(True, "", ()), "unjudged", None),
    ],
)
def test_answers_are_judged_by_what_was_expected(
    expected: Expectation, given_: Given, result: str, cited: bool | None
) -> None:
    judgement = judge(expected, given_)
    assert judgement.result == result
    assert judgement.cited is cited
    assert bool(judgement.reason) == (result not in {*RIGHT_RESULTS, "unjudged"})


@given(st.text(max_size=40), st.text(max_size=80), st.booleans())
def test_any_text_can_be_judged(key: str, text: str, declined: bool) -> None:
    judge(Expectation(contains=(key,), quotes=(key,)), Given(declined, text, (Cited((), text),)))


@given(st.integers(0, 200), st.integers(1, 200))
def test_a_share_lies_in_its_interval(count: int, extra: int) -> None:
    of = count + extra
    result = share(count, of)
    assert 0 <= result.low <= count / of <= result.high <= 1
    wider = share(count * 4, of * 4)
    assert wider.high - wider.low < result.high - result.low


def test_the_interval_is_that_of_the_literature() -> None:
    # Newcombe (1998), Statistics in Medicine 17, table I, method 3.
    result = share(81, 263)
    assert (round(result.low, 4), round(result.high, 4)) == (0.2553, 0.3662)
    assert share(0, 0).high == 1.0


@given(st.integers(0, 60), st.integers(0, 60))
def test_the_sign_test_is_a_probability_that_favours_neither(won: int, lost: int) -> None:
    value = sign_test(won, lost)
    assert 0 <= value <= 1
    assert value == sign_test(lost, won)
    assert value >= sign_test(won + max(won, lost) - min(won, lost), lost) or won <= lost


def test_the_sign_test_counts_tails() -> None:
    assert sign_test(0, 0) == 1.0
    assert math.isclose(sign_test(5, 0), 2 / 32)
    assert math.isclose(sign_test(9, 1), 2 * 11 / 1024)


@given(st.lists(st.floats(0, 100), min_size=1), st.floats(0.01, 1))
def test_a_quantile_is_a_value_with_its_share_below(values: list[float], at: float) -> None:
    result = quantile(values, at)
    assert result in values
    assert sum(value <= result for value in values) >= at * len(values) - 1e-9
    assert quantile([], at) is None


@given(st.dictionaries(st.text(max_size=3), st.tuples(RESULTS, RESULTS, st.booleans())))
def test_every_question_is_won_lost_changed_or_the_same(
    results: dict[str, tuple[Result, Result, bool]],
) -> None:
    before = {question: (one, "text") for question, (one, _, _) in results.items()}
    after = {
        question: (other, "text" if same else "other")
        for question, (_, other, same) in results.items()
    }
    comparison = compare(before, after)
    assert set(comparison.changes) == set(results)
    back = compare(after, before)
    assert comparison.count(Change.WON) == back.count(Change.LOST)
    assert comparison.count(Change.CHANGED) == back.count(Change.CHANGED)
    assert comparison.probability == back.probability
    assert not compare(before, before).count(Change.CHANGED)


def test_questions_of_one_trial_alone_are_left_out() -> None:
    assert not compare({"a": (Result.RIGHT, "")}, {"b": (Result.RIGHT, "")}).changes
