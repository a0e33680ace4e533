"""The steps of an answer, each with its time and details."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any


@dataclass(slots=True)
class Step:
    """A step: seconds until it began, its duration, and details as JSON."""

    name: str
    began: float
    seconds: float = 0.0
    details: dict[str, Any] = field(default_factory=dict)

    def record(self, **details: Any) -> None:
        """Add details to the step."""
        self.details.update(details)


class Trace:
    """Collects steps in the order in which they begin."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._start = clock()
        self.steps: list[Step] = []

    @property
    def seconds(self) -> float:
        """Return the seconds since the question."""
        return self._clock() - self._start

    @contextmanager
    def step(self, name: str, **details: Any) -> Iterator[Step]:
        """Record a step for as long as the block runs, however it ends."""
        step = Step(name, self.seconds, details=details)
        self.steps.append(step)
        try:
            yield step
        finally:
            step.seconds = self.seconds - step.began
