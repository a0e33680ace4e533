"""Background threads that work while there is something to do."""

from __future__ import annotations

import threading
from collections.abc import Callable, Collection
from dataclasses import dataclass, field

import structlog

log = structlog.get_logger()

#: Does a piece of work; returns whether there was any.
Step = Callable[[], bool | None]

#: Seconds after which a sleeping thread looks for work that became due by the clock.
_NAP = 1.0
#: Seconds that `join` waits for each thread.
_JOIN = 10.0


@dataclass(frozen=True, slots=True)
class _Sleeper:
    """What wakes a thread: changes of these tables, or that its nap is over."""

    tables: frozenset[type]
    nap: float
    woken: threading.Event = field(default_factory=threading.Event)


class WorkerThreads:
    """Threads that each repeat one step until `stopping` is set.

    A thread without work sleeps until one of its tables is changed. Waking all of them at each
    change would cost more than most changes: each looks into the records.
    """

    def __init__(self, stopping: threading.Event) -> None:
        self._stopping = stopping
        self._sleepers: list[_Sleeper] = []
        self._threads: list[threading.Thread] = []

    def start(
        self, name: str, step: Step, tables: Collection[type] = (), nap: float = _NAP
    ) -> None:
        """Start a thread that repeats `step`.

        An exception is logged, and the step retried.

        Args:
            name: The thread's name.
            step: What it repeats.
            tables: Tables whose changes may be work for it.
            nap: Seconds after which it looks for work without being woken.
        """
        sleeper = _Sleeper(frozenset(tables), nap)
        thread = threading.Thread(
            target=self._run, args=(name, step, sleeper), name=name, daemon=True
        )
        self._sleepers.append(sleeper)
        self._threads.append(thread)
        thread.start()

    def wake(self, changed: Collection[type]) -> None:
        """Have the threads look for work that changes of these tables may be work for."""
        for sleeper in self._sleepers:
            if not sleeper.tables.isdisjoint(changed):
                sleeper.woken.set()

    def join(self) -> None:
        """Wait for the threads to end."""
        for sleeper in self._sleepers:
            sleeper.woken.set()
        for thread in self._threads:
            thread.join(timeout=_JOIN)

    def _run(self, name: str, step: Step, sleeper: _Sleeper) -> None:
        while not self._stopping.is_set():
            sleeper.woken.clear()
            try:
                busy = step()
            except Exception:
                if self._stopping.is_set():
                    return
                log.exception("background step failed", thread=name)
                busy = False
            if not busy and not self._stopping.is_set():
                sleeper.woken.wait(sleeper.nap)
