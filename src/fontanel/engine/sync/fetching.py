"""Fetching the items of a source a few at a time, returning them in batches."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass

from fontanel.sources import Fetched, Listed

#: Items committed together, and the seconds after which those that are there are committed.
BATCH = 64
MOMENT = 0.4


@dataclass(frozen=True, slots=True)
class Taken:
    """An item that was fetched, or failed.

    Without `sha256` it was unchanged, or failed with `error`.
    """

    item: Listed
    fetched: Fetched | None = None
    sha256: str | None = None
    size: int = 0
    error: str | None = None


class Fetching:
    """Fetches items a few at a time, and returns those that are done, in any order."""

    def __init__(
        self, pool: ThreadPoolExecutor, fetch: Callable[[Listed], Taken], most: int
    ) -> None:
        self._pool = pool
        self._fetch = fetch
        self._most = most
        self._open: set[Future[Taken]] = set()
        self._done: deque[Taken] = deque()
        self._since = 0.0

    def add(self, item: Listed) -> Iterator[list[Taken]]:
        """Fetch one more; yield a batch when one is due."""
        self._open.add(self._pool.submit(self._fetch, item))
        self._collect(block=len(self._open) >= self._most)
        if len(self._done) >= BATCH or (self._done and time.monotonic() - self._since > MOMENT):
            yield self._batch()

    def rest(self) -> Iterator[list[Taken]]:
        while self._open:
            self._collect(block=True)
            if len(self._done) >= BATCH or (self._done and time.monotonic() - self._since > MOMENT):
                yield self._batch()
        yield self._batch()

    def give_up(self) -> None:
        for future in self._open:
            future.cancel()

    def _collect(self, *, block: bool) -> None:
        if not self._open:
            return
        done, self._open = wait(
            self._open, timeout=None if block else 0, return_when=FIRST_COMPLETED
        )
        if done and not self._done:
            self._since = time.monotonic()
        for future in done:
            self._done.append(future.result())

    def _batch(self) -> list[Taken]:
        batch = [self._done.popleft() for _ in range(min(BATCH, len(self._done)))]
        self._since = time.monotonic()
        return batch
