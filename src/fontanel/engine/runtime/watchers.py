"""Who waits for changes: a knowledge base's listeners are woken when something in it changed."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

from sqlalchemy import event
from sqlalchemy.orm import ORMExecuteState, Session

from fontanel.records.database import Sessions
from fontanel.records.tables import DeskLink, Document, Key, Member, Person, SignIn, Team

_GONE = "documents gone"
_REVOKED = "access changed"
#: Records on which somebody's access rests.
_ACCESS = (DeskLink, Key, Member, Person, SignIn, Team)


class Listener:
    """One who listens for the changes of a knowledge base. `woken` is set when there was one."""

    def __init__(self) -> None:
        self.loop = asyncio.get_running_loop()
        self.woken = asyncio.Event()
        self._gone: list[str] = []
        self._lock = threading.Lock()

    def wake(self) -> None:
        """Set `woken`, from any thread."""
        with suppress(RuntimeError):  # the loop is closed
            self.loop.call_soon_threadsafe(self.woken.set)

    def add_gone(self, documents: list[str]) -> None:
        with self._lock:
            self._gone += documents

    def take_gone(self) -> list[str]:
        """The documents that were deleted since this was asked before: no record tells of them any more."""
        with self._lock:
            taken, self._gone = self._gone, []
        return taken


class Changes:
    """Wakes asyncio listeners from any thread. A wake says that something changed, not what: listeners look."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._listeners: dict[str, set[Listener]] = {}
        self._of_access: set[Listener] = set()

    def follow(self, sessions: Sessions) -> None:
        """Take note of what these sessions delete, and of changes to who may do what, once that is committed."""

        @event.listens_for(sessions, "after_flush")
        def note(session: Session, context: Any) -> None:
            gone = [item for item in session.deleted if isinstance(item, Document)]
            for document in gone:
                session.info.setdefault(_GONE, {}).setdefault(document.kb_id, []).append(
                    document.id
                )

            changed = (*session.deleted, *session.dirty)
            if any(isinstance(item, _ACCESS) for item in changed):
                session.info[_REVOKED] = True

        @event.listens_for(sessions, "do_orm_execute")
        def note_statement(state: ORMExecuteState) -> None:
            mapper = state.bind_mapper
            if (
                (state.is_delete or state.is_update)
                and mapper is not None
                and issubclass(mapper.class_, _ACCESS)
            ):
                state.session.info[_REVOKED] = True

        @event.listens_for(sessions, "after_commit")
        def tell(session: Session) -> None:
            if session.info.pop(_REVOKED, False):
                self._tell_access()
            for kb_id, documents in session.info.pop(_GONE, {}).items():
                self.tell(kb_id, documents)

        @event.listens_for(sessions, "after_rollback")
        def forget(session: Session) -> None:
            session.info.pop(_GONE, None)
            session.info.pop(_REVOKED, None)

    @contextmanager
    def listen(self, kb_id: str) -> Iterator[Listener]:
        listener = Listener()
        with self._lock:
            self._listeners.setdefault(kb_id, set()).add(listener)
        try:
            yield listener
        finally:
            with self._lock:
                self._listeners[kb_id].discard(listener)
                if not self._listeners[kb_id]:
                    del self._listeners[kb_id]

    @contextmanager
    def listen_to_access(self, listener: Listener) -> Iterator[None]:
        """Wake this listener also when somebody's access changes."""
        with self._lock:
            self._of_access.add(listener)
        try:
            yield
        finally:
            with self._lock:
                self._of_access.discard(listener)

    def _tell_access(self) -> None:
        with self._lock:
            listeners = list(self._of_access)
        for listener in listeners:
            listener.wake()

    def tell(self, kb_id: str, gone: list[str] | None = None) -> None:
        with self._lock:
            listeners = list(self._listeners.get(kb_id, ()))
        for listener in listeners:
            if gone:
                listener.add_gone(gone)
            listener.wake()

    def tell_all(self) -> None:
        """Wake every listener, for a shutdown."""
        for kb_id in list(self._listeners):
            self.tell(kb_id)
