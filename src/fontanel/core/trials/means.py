"""Means and medians with their intervals."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

#: The normal quantile of a 95 % interval.
_Z = 1.959964


@dataclass(frozen=True, slots=True)
class Estimate:
    """A mean or a median, and its 95 % interval."""

    value: float
    low: float
    high: float


def mean(values: Sequence[float]) -> Estimate | None:
    """Return a mean with its normal interval; None of no values."""
    if not values:
        return None
    centre = math.fsum(values) / len(values)
    if len(values) == 1:
        return Estimate(centre, centre, centre)
    variance = math.fsum((value - centre) ** 2 for value in values) / (len(values) - 1)
    half = _Z * math.sqrt(variance / len(values))
    return Estimate(centre, centre - half, centre + half)


def median(values: Sequence[float]) -> Estimate | None:
    """Return a median with the interval of its order statistics; None of no values."""
    if not values:
        return None
    ordered, count = sorted(values), len(values)
    middle = (ordered[(count - 1) // 2] + ordered[count // 2]) / 2
    half = _Z * math.sqrt(count) / 2
    low = max(0, math.floor(count / 2 - half))
    high = min(count - 1, math.ceil(count / 2 + half))
    return Estimate(middle, ordered[low], ordered[high])
