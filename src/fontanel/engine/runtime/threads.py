"""Background threads that work while there is something to do."""

from __future__ import annotations

import threading
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field

import structlog

log = structlog.get_logger()

#: Does a piece of work; returns whether there was any.
Step = Callable[[], bool | None]

#: Seconds after which a sleeping thread looks for work that became due by the clock.
_NAP = 1.0
#: Seconds after which a thread looks that another one of its kind wakes.
_LONG_NAP = 10.0
#: Seconds that `join` waits for each thread.
_JOIN = 10.0


@dataclass(frozen=True, slots=True)
class _Sleeper:
    """What wakes a thread: changes of these tables, or that its nap is over."""

    tables: frozenset[type]
    nap: float
    next: _Sleeper | None = None
    """A thread for the same kind of work, to be woken when there is some."""
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
        self._start(name, step, _Sleeper(frozenset(tables), nap))

    def start_several(
        self, name: str, steps: Sequence[Step], tables: Collection[type] = (), nap: float = _NAP
    ) -> None:
        """Start threads for one kind of work, of which only the first looks by the clock.

        A thread that found work wakes the next one. The arguments are those of `start`.
        """
        sleeper: _Sleeper | None = None
        for number, step in reversed(list(enumerate(steps))):
            sleeper = _Sleeper(frozenset(tables), _LONG_NAP if number else nap, sleeper)
            self._start(f"{name}-{number}", step, sleeper)

    def _start(self, name: str, step: Step, sleeper: _Sleeper) -> None:
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
            if busy and sleeper.next is not None:
                sleeper.next.woken.set()
            if not busy and not self._stopping.is_set():
                sleeper.woken.wait(sleeper.nap)
