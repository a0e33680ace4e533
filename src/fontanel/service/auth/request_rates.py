"""How many requests and questions each key, person and guest may send in a minute.

Responses report the limit as the draft "RateLimit header fields for HTTP" describes: the policy
(`"requests";q=600;w=60`), and how many are left until when (`"requests";r=12;t=34`).
"""

from __future__ import annotations

import time
from dataclasses import dataclass
from math import ceil

from limits import RateLimitItemPerMinute
from limits.storage import MemoryStorage
from limits.strategies import SlidingWindowCounterRateLimiter
from starlette.requests import HTTPConnection

from fontanel.service.problems import ApiError

#: Where a request's state has what its response reports.
REPORTED = "rates"
_WINDOW = 60


@dataclass(frozen=True, slots=True)
class Rate:
    """What is left of a limit: so many more, until everything is back in `seconds`."""

    name: str
    limit: int
    left: int
    seconds: int

    @property
    def policy(self) -> str:
        """An item of the RateLimit-Policy field."""
        return f'"{self.name}";q={self.limit};w={_WINDOW}'

    @property
    def remaining(self) -> str:
        """An item of the RateLimit field."""
        return f'"{self.name}";r={self.left};t={self.seconds}'


class RequestRates:
    """Counts requests and questions of each caller in a sliding minute."""

    def __init__(self) -> None:
        self._limiter = SlidingWindowCounterRateLimiter(MemoryStorage())

    def count(self, connection: HTTPConnection, name: str, who: str, limit: int | None) -> None:
        """Count one more, and have the response report what is left.

        Args:
            connection: The request; looking its access up again does not count it again.
            name: `requests` or `questions`.
            who: The caller.
            limit: The maximum in a minute; None for any number.

        Raises:
            ApiError: too-many-requests.
        """
        reported: dict[str, Rate] = connection.scope["state"].setdefault(REPORTED, {})
        if limit is None or name in reported:
            return
        if limit == 0:
            raise ApiError("too-many-requests", f"The quota of {name} a minute is 0.")
        rate = RateLimitItemPerMinute(limit)
        allowed = self._limiter.hit(rate, name, who)
        window = self._limiter.get_window_stats(rate, name, who)
        seconds = max(1, ceil(window.reset_time - time.time()))
        reported[name] = Rate(name, limit, window.remaining, seconds)
        if not allowed:
            raise ApiError(
                "too-many-requests",
                f"The team's quota allows {limit} {name} a minute.",
                advice=f"Try again in {seconds} seconds.",
                headers={"Retry-After": str(seconds)},
            )


def rate_headers(state: dict[str, object]) -> list[tuple[bytes, bytes]]:
    """Return the header fields that report the rates of a request."""
    reported = state.get(REPORTED)
    if not isinstance(reported, dict) or not reported:
        return []
    rates = list(reported.values())
    return [
        (b"ratelimit-policy", ", ".join(rate.policy for rate in rates).encode()),
        (b"ratelimit", ", ".join(rate.remaining for rate in rates).encode()),
    ]
