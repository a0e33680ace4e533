"""Means and medians lie within their intervals."""

from __future__ import annotations

import statistics

from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.trials.means import mean, median

VALUES = st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=60)


@given(VALUES)
def test_a_mean_is_in_the_middle_of_its_interval(values: list[float]) -> None:
    result = mean(values)
    assert result is not None
    assert abs(result.value - statistics.fmean(values)) <= 1e-6 * (1 + abs(result.value))
    assert result.low <= result.value <= result.high
    assert abs((result.high - result.value) - (result.value - result.low)) <= 1e-3


@given(VALUES)
def test_a_median_is_within_values_of_the_sample(values: list[float]) -> None:
    result = median(values)
    assert result is not None
    assert result.value == statistics.median(values)
    assert result.low in values
    assert result.high in values
    assert result.low <= result.value <= result.high


@given(VALUES, st.floats(-100, 100))
def test_both_move_with_their_values(values: list[float], by: float) -> None:
    for estimate in (mean, median):
        here, there = estimate(values), estimate([value + by for value in values])
        assert here is not None
        assert there is not None
        assert abs(there.value - here.value - by) < 1e-3


def test_nothing_has_no_mean() -> None:
    assert mean([]) is None
    assert median([]) is None


def test_more_values_narrow_the_interval() -> None:
    few, many = mean([1.0, 2.0, 3.0, 4.0]), mean([1.0, 2.0, 3.0, 4.0] * 25)
    assert few is not None
    assert many is not None
    assert many.high - many.low < few.high - few.low
    one = mean([7.0])
    assert one is not None
    assert (one.low, one.value, one.high) == (7.0, 7.0, 7.0)
