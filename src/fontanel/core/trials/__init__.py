"""Trials: whether answers are what a question set expects, and which of two trials is better."""

from fontanel.core.trials.comparing import Change, Comparison, compare
from fontanel.core.trials.figures import Share, quantile, share, sign_test
from fontanel.core.trials.judging import (
    RIGHT_RESULTS,
    Cited,
    Expectation,
    Given,
    Judgement,
    Result,
    judge,
)

__all__ = [
    "RIGHT_RESULTS",
    "Change",
    "Cited",
    "Comparison",
    "Expectation",
    "Given",
    "Judgement",
    "Result",
    "Share",
    "compare",
    "judge",
    "quantile",
    "share",
    "sign_test",
]
