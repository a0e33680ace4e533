"""The frontier of a crawl: addresses to visit, breadth first, each once."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable


class Frontier:
    """Addresses that are known and those to visit next.

    Args:
        starts: Where the crawl begins, at depth 0.
        depth: How many links deep addresses are visited.
        limit: How many addresses are visited in all.
    """

    def __init__(self, starts: Iterable[str], depth: int, limit: int) -> None:
        self._depth = depth
        self._left = limit
        self._queue: deque[tuple[str, int]] = deque((address, 0) for address in starts)
        self._seen = {address for address, _ in self._queue}
        #: Whether there were more addresses than may be visited.
        self.exceeded = False

    def __contains__(self, address: str) -> bool:
        return address in self._seen

    def add(self, address: str, depth: int) -> bool:
        """Add an address unless it is too deep or known.

        Return whether it is not too deep.
        """
        if depth > self._depth:
            return False
        if address not in self._seen:
            self._seen.add(address)
            self._queue.append((address, depth))
        return True

    def pass_over(self, address: str) -> None:
        """Remember an address that is not visited."""
        self._seen.add(address)

    def take(self) -> tuple[str, int] | None:
        """Return the next address to visit and its depth; None when there is none for now."""
        if not self._queue:
            return None
        if self._left <= 0:
            self.exceeded = True
            self._queue.clear()
            return None
        self._left -= 1
        return self._queue.popleft()
