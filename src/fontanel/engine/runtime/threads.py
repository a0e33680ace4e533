"""Background threads that work while there is something to do."""

from __future__ import annotations

import threading
from collections.abc import Callable

import structlog

log = structlog.get_logger()

#: Does a piece of work; returns whether there was any.
Step = Callable[[], bool | None]

#: Seconds after which a sleeping thread looks for work that became due by the clock.
_NAP = 1.0
#: Seconds that `join` waits for each thread.
_JOIN = 10.0


class WorkerThreads:
    """Threads that each repeat one step until `stopping` is set."""

    def __init__(self, stopping: threading.Event) -> None:
        self._stopping = stopping
        self._woken = threading.Condition()
        self._generation = 0
        self._threads: list[threading.Thread] = []

    def start(self, name: str, step: Step) -> None:
        """Start a thread that repeats `step`.

        An exception is logged, and the step retried.
        """
        thread = threading.Thread(target=self._run, args=(name, step), name=name, daemon=True)
        self._threads.append(thread)
        thread.start()

    def wake(self) -> None:
        """Have every thread look for work."""
        with self._woken:
            self._generation += 1
            self._woken.notify_all()

    def join(self) -> None:
        """Wait for the threads to end."""
        self.wake()
        for thread in self._threads:
            thread.join(timeout=_JOIN)

    def _run(self, name: str, step: Step) -> None:
        while not self._stopping.is_set():
            with self._woken:
                seen = self._generation
            try:
                busy = step()
            except Exception:
                if self._stopping.is_set():
                    return
                log.exception("background step failed", thread=name)
                busy = False
            if busy:
                continue
            with self._woken:
                if self._generation == seen and not self._stopping.is_set():
                    self._woken.wait(timeout=_NAP)
