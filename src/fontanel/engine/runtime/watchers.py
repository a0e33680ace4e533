"""Watchers: event streams that wake on changes and on lost access."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from fontanel.records.unit_of_work import Committed


class Watcher:
    """Waits for changes of a knowledge base. `changed` is set when there was one."""

    def __init__(self) -> None:
        self.loop = asyncio.get_running_loop()
        self.changed = asyncio.Event()
        self._deleted: list[str] = []
        self._lock = threading.Lock()

    def wake(self) -> None:
        """Set `changed`, from any thread."""
        with suppress(RuntimeError):  # the loop is closed
            self.loop.call_soon_threadsafe(self.changed.set)

    def add_deleted(self, documents: list[str]) -> None:
        """Remember documents whose records are gone."""
        with self._lock:
            self._deleted += documents

    def take_deleted(self) -> list[str]:
        """Return the ids of documents deleted since the last call."""
        with self._lock:
            taken, self._deleted = self._deleted, []
        return taken


class Watchers:
    """Wakes watchers from any thread. They look up themselves what changed."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._of_kb: dict[str, set[Watcher]] = {}
        self._of_access: set[Watcher] = set()

    @contextmanager
    def watch(self, kb_id: str) -> Iterator[Watcher]:
        """Watch a knowledge base for the length of the block."""
        watcher = Watcher()
        with self._lock:
            self._of_kb.setdefault(kb_id, set()).add(watcher)
        try:
            yield watcher
        finally:
            with self._lock:
                self._of_kb[kb_id].discard(watcher)
                if not self._of_kb[kb_id]:
                    del self._of_kb[kb_id]

    @contextmanager
    def watch_access(self, watcher: Watcher) -> Iterator[None]:
        """Wake this watcher also when somebody's access changes."""
        with self._lock:
            self._of_access.add(watcher)
        try:
            yield
        finally:
            with self._lock:
                self._of_access.discard(watcher)

    def notify(self, committed: Committed) -> None:
        """Wake the watchers of what a unit of work changed."""
        with self._lock:
            woken = {
                kb_id: list(self._of_kb.get(kb_id, ()))
                for kb_id in committed.kbs | committed.deleted_documents.keys()
            }
            of_access = list(self._of_access) if committed.access else []
        for kb_id, watchers in woken.items():
            for watcher in watchers:
                if deleted := committed.deleted_documents.get(kb_id):
                    watcher.add_deleted(deleted)
                watcher.wake()
        for watcher in of_access:
            watcher.wake()

    def wake_all(self) -> None:
        """Wake every watcher, for a shutdown."""
        with self._lock:
            watchers = {one for some in self._of_kb.values() for one in some} | self._of_access
        for watcher in watchers:
            watcher.wake()
