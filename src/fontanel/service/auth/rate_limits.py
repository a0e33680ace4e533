"""Limits on how often something may be tried: passwords, questions of guests.

Limits slow down; they never lock. Each name has a bucket of tries that refills over time, so that
the right person gets in a little later, and a guesser is limited to a hopeless pace.
"""

from __future__ import annotations

import threading
import time
from collections import Counter, OrderedDict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from ipaddress import IPv6Address, ip_address, ip_network
from math import ceil

from limits import RateLimitItemPerMinute
from limits.storage import MemoryStorage
from limits.strategies import MovingWindowRateLimiter

from fontanel.service.problems import ApiError


@dataclass(frozen=True, slots=True)
class Rate:
    """So many tries at once, and one more every `seconds`."""

    burst: int
    seconds: float


class Buckets:
    """A bucket of tries for each name, with a capacity.

    The least recently used go first.
    """

    def __init__(
        self, clock: Callable[[], float] = time.monotonic, capacity: int = 200_000
    ) -> None:
        self._clock = clock
        self._capacity = capacity
        #: Name -> remaining tries and the time of that count; least recently used first.
        self._left: OrderedDict[str, tuple[float, float]] = OrderedDict()

    def available(self, name: str, rate: Rate) -> float:
        left, at = self._left.get(name, (float(rate.burst), self._clock()))
        return min(float(rate.burst), left + (self._clock() - at) / rate.seconds)

    def take(self, name: str, rate: Rate, tries: float = 1.0) -> None:
        """Take a try; a negative number returns it."""
        left = min(float(rate.burst), self.available(name, rate) - tries)
        self._left.pop(name, None)
        if left < rate.burst:
            self._left[name] = (left, self._clock())
        while len(self._left) > self._capacity:
            self._left.popitem(last=False)


#: One address at one account; an address at all accounts; an account from addresses that never
#: signed in to it.
_PAIR, _ADDRESS, _ACCOUNT = Rate(10, 30.0), Rate(30, 10.0), Rate(50, 20.0)
_KNOWN_ADDRESSES = 100_000


class SignInLimits:
    """Limits how fast passwords can be guessed.

    A try is taken before the password is compared, so that concurrent tries count, and returned
    when it was right. Somebody else's wrong tries slow an account down only for addresses from
    which its owner has never signed in.
    """

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._lock = threading.Lock()
        self._buckets = Buckets(clock)
        self._known: OrderedDict[tuple[str, str], None] = OrderedDict()

    def begin(self, account: str, address: str) -> None:
        """Take a try. Raises ApiError(too-many-attempts) when there is none left."""
        with self._lock:
            names = self._names(account, address)
            wait = max(
                (1 - self._buckets.available(name, rate)) * rate.seconds for name, rate in names
            )
            if wait > 0:
                seconds = int(wait) + 1
                raise ApiError(
                    "too-many-attempts",
                    f"Too many wrong passwords. Try again in {seconds} seconds.",
                    headers={"Retry-After": str(seconds)},
                )
            for name, rate in names:
                self._buckets.take(name, rate)

    def succeeded(self, account: str, address: str) -> None:
        """Give the try back, and remember the address as one of the account's own."""
        with self._lock:
            for name, rate in self._names(account, address):
                self._buckets.take(name, rate, -1.0)
            self._known[account, network_of(address)] = None
            self._known.move_to_end((account, network_of(address)))
            if len(self._known) > _KNOWN_ADDRESSES:
                self._known.popitem(last=False)

    def _names(self, account: str, address: str) -> list[tuple[str, Rate]]:
        network = network_of(address)
        names = [(f"pair:{account}:{network}", _PAIR), (f"address:{network}", _ADDRESS)]
        if (account, network) not in self._known:
            names.append((f"account:{account}", _ACCOUNT))
        return names


def network_of(address: str) -> str:
    """The address; of an IPv6 address the network that one subscriber has."""
    try:
        result = ip_address(address)
    except ValueError:
        return address
    if isinstance(result, IPv6Address):
        if result.ipv4_mapped is not None:
            return str(result.ipv4_mapped)
        return str(ip_network((result, 64), strict=False))
    return str(result)


class AtOnce:
    """How many things of a kind a team does at once."""

    def __init__(self, limit: int, what: str) -> None:
        self._limit = limit
        self._what = what
        self._lock = threading.Lock()
        self._running: Counter[str] = Counter()

    @contextmanager
    def one(self, team: str) -> Iterator[None]:
        """Count one more until the block ends. Raises ApiError(too-many-attempts)."""
        with self._lock:
            if self._running[team] >= self._limit:
                raise ApiError(
                    "too-many-attempts",
                    f"The team has {self._limit} {self._what} running.",
                    advice="Wait until one ends.",
                    headers={"Retry-After": "5"},
                )
            self._running[team] += 1
        try:
            yield
        finally:
            with self._lock:
                self._running[team] -= 1


class Pace:
    """How often each guest may ask in a minute, in a moving window."""

    def __init__(self) -> None:
        self._limiter = MovingWindowRateLimiter(MemoryStorage())

    def check(self, who: str, per_minute: int) -> None:
        """Count a question.

        Raises:
            ApiError: too-many-attempts, when it is one too many.
        """
        rate = RateLimitItemPerMinute(per_minute)
        if self._limiter.hit(rate, who):
            return
        reset = self._limiter.get_window_stats(rate, who).reset_time
        wait = max(1, ceil(reset - time.time()))
        raise ApiError(
            "too-many-attempts",
            f"This link allows {per_minute} questions a minute.",
            advice=f"Ask again in {wait} seconds.",
            headers={"Retry-After": str(wait)},
        )
