"""A limited number of slots, which waiting groups get in turn."""

from __future__ import annotations

import threading
from collections import OrderedDict, deque


class FairSlots:
    """Slots for work that is done at the same time, shared fairly between groups.

    When a slot is free, the group whose turn is the longest ago gets it: a group with a hundred
    waiting delays another's first by one slot, not by a hundred.

    Args:
        slots: How many there are.
    """

    def __init__(self, slots: int) -> None:
        self._lock = threading.Lock()
        self._free = slots
        #: What waits, by group; the group at the beginning is next.
        self._waiting: OrderedDict[str, deque[threading.Event]] = OrderedDict()

    @property
    def waiting(self) -> int:
        """How many wait for a slot."""
        with self._lock:
            return sum(len(turns) for turns in self._waiting.values())

    def acquire(self, group: str, cancelled: threading.Event, poll: float = 0.5) -> bool:
        """Wait for a slot.

        Args:
            group: Whose turn it uses.
            cancelled: Ends the wait when it is set.
            poll: Seconds between two looks at `cancelled`.

        Returns:
            Whether there is a slot; it must be released then.
        """
        with self._lock:
            if self._free and not self._waiting:
                self._free -= 1
                return True
            turn = threading.Event()
            self._waiting.setdefault(group, deque()).append(turn)
        while not turn.wait(poll):
            if cancelled.is_set() and self._leave(group, turn):
                return False
        return True

    def release(self) -> None:
        """Free a slot, for the group that is next."""
        with self._lock:
            if not self._waiting:
                self._free += 1
                return
            group, turns = next(iter(self._waiting.items()))
            turns.popleft().set()
            del self._waiting[group]
            if turns:
                self._waiting[group] = turns  # at the end

    def _leave(self, group: str, turn: threading.Event) -> bool:
        """Stop waiting; return whether no slot came at the same moment."""
        with self._lock:
            if turn.is_set():
                return False
            self._waiting[group].remove(turn)
            if not self._waiting[group]:
                del self._waiting[group]
            return True
