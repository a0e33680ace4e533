"""Threads that are shared fairly: one piece of work for each key, and few for one team."""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress

import structlog

log = structlog.get_logger()


class FairPool:
    """Runs functions in threads.

    Args:
        name: What the threads and log lines are called by.
        threads: Functions that run at the same time.
        of_team: How many of them may be of one team.
    """

    def __init__(self, name: str, threads: int, of_team: int) -> None:
        self._name = name
        self._threads = threads
        self._of_team = of_team
        self._pool = ThreadPoolExecutor(threads, thread_name_prefix=name)
        self._lock = threading.Lock()
        #: Keys that are worked on, with their teams.
        self._busy: dict[str, str] = {}

    def busy(self) -> set[str]:
        """Return the keys that are worked on."""
        with self._lock:
            return set(self._busy)

    def start(self, key: str, team_id: str, function: Callable[[], None]) -> bool:
        """Run a function in a thread; return whether there was room for it."""
        with self._lock:
            of_team = Counter(self._busy.values())[team_id]
            if key in self._busy or of_team >= self._of_team or len(self._busy) >= self._threads:
                return False
            self._busy[key] = team_id
        with suppress(RuntimeError):  # the service is stopping
            self._pool.submit(self._run, key, function)
        return True

    def stop(self) -> None:
        """Start no further functions."""
        self._pool.shutdown(wait=False, cancel_futures=True)

    def _run(self, key: str, function: Callable[[], None]) -> None:
        try:
            function()
        except Exception:
            log.exception("background work failed", thread=self._name, key=key)
        finally:
            with self._lock:
                self._busy.pop(key, None)
