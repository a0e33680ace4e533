"""Slots that waiting groups get in turn."""

from __future__ import annotations

import threading
from collections import deque

from hypothesis import given
from hypothesis import strategies as st

from fontanel.engine.runtime.fair_slots import FairSlots


class Waiting:
    """Threads that wait for a slot, in the order in which they asked."""

    def __init__(self, slots: FairSlots) -> None:
        self._slots = slots
        self._lock = threading.Lock()
        self.threads: list[threading.Thread] = []
        self.served: list[str] = []

    def add(self, group: str) -> None:
        before = self._slots.waiting
        thread = threading.Thread(target=self._wait, args=(group,))
        self.threads.append(thread)
        thread.start()
        while self._slots.waiting == before:
            pass

    def _wait(self, group: str) -> None:
        assert self._slots.acquire(group, threading.Event())
        with self._lock:
            self.served.append(group)
        self._slots.release()

    def finish(self) -> list[str]:
        for thread in self.threads:
            thread.join(timeout=30)
        return self.served


@given(st.lists(st.sampled_from("abc"), min_size=1, max_size=8))
def test_groups_take_turns(groups: list[str]) -> None:
    slots = FairSlots(1)
    assert slots.acquire("first", threading.Event())
    waiting = Waiting(slots)
    for group in groups:
        waiting.add(group)
    slots.release()
    expected: list[str] = []
    queues = {group: deque(one for one in groups if one == group) for group in groups}
    while any(queues.values()):
        expected += [queue.popleft() for queue in queues.values() if queue]
    assert waiting.finish() == expected
    assert slots.acquire("last", threading.Event())


def test_whoever_leaves_takes_no_slot() -> None:
    slots, gone = FairSlots(1), threading.Event()
    assert slots.acquire("a", threading.Event())
    gone.set()
    assert not slots.acquire("b", gone, poll=0.01)
    assert slots.waiting == 0
    slots.release()
    assert slots.acquire("c", threading.Event())
