"""Who waits for changes: a knowledge base's listeners are woken when something in it changed."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Iterator
from contextlib import contextmanager


class Changes:
    """Wakes asyncio listeners from any thread. A wake says that something changed, not what: listeners look."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._listeners: dict[str, set[tuple[asyncio.AbstractEventLoop, asyncio.Event]]] = {}

    @contextmanager
    def listen(self, kb_id: str) -> Iterator[asyncio.Event]:
        listener = (asyncio.get_running_loop(), asyncio.Event())
        with self._lock:
            self._listeners.setdefault(kb_id, set()).add(listener)
        try:
            yield listener[1]
        finally:
            with self._lock:
                self._listeners[kb_id].discard(listener)
                if not self._listeners[kb_id]:
                    del self._listeners[kb_id]

    def tell(self, kb_id: str) -> None:
        with self._lock:
            listeners = list(self._listeners.get(kb_id, ()))
        for loop, event in listeners:
            if not loop.is_closed():
                loop.call_soon_threadsafe(event.set)

    def tell_all(self) -> None:
        """Wake every listener, for a shutdown."""
        for kb_id in list(self._listeners):
            self.tell(kb_id)
