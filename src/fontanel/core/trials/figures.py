"""Shares with their intervals, quantiles, and the sign test."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

#: The normal quantile of a 95 % interval.
_Z = 1.959964


@dataclass(frozen=True, slots=True)
class Share:
    """How many of a number, and the 95 % interval of the share, 0-1."""

    count: int
    of: int
    low: float
    high: float


def share(count: int, of: int) -> Share:
    """Return a share with its score interval (Wilson 1927)."""
    if of == 0:
        return Share(0, 0, 0.0, 1.0)
    value, weight = count / of, _Z * _Z / of
    centre = (value + weight / 2) / (1 + weight)
    half = _Z * math.sqrt(value * (1 - value) / of + weight / of / 4) / (1 + weight)
    low = 0.0 if count == 0 else max(0.0, centre - half)
    high = 1.0 if count == of else min(1.0, centre + half)
    return Share(count, of, low, high)


def sign_test(won: int, lost: int) -> float:
    """Return the two-sided probability of a difference at least as large by chance.

    The exact binomial test of equal odds (Arbuthnott 1710); 1 if nothing differs.
    """
    total = won + lost
    if total == 0:
        return 1.0
    tail = sum(math.comb(total, n) for n in range(min(won, lost) + 1))
    return float(min(1.0, 2 * tail / 2**total))


def quantile(values: Sequence[float], at: float) -> float | None:
    """Return the value below which a share of the values is (nearest rank); None of none."""
    if not values:
        return None
    ordered = sorted(values)
    return ordered[max(0, math.ceil(at * len(ordered)) - 1)]
