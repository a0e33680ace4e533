"""Connections: how many may be open, and how long a request's head may take."""

from __future__ import annotations

import asyncio
import resource
from collections.abc import Callable
from typing import Any

from uvicorn.protocols.http.h11_impl import H11Protocol

_FULL = (
    b"HTTP/1.1 503 Service Unavailable\r\nConnection: close\r\nRetry-After: 5\r\nContent-Length:"
    b" 0\r\n\r\n"
)


def protocol(max_connections: int, head_seconds: float) -> Callable[..., H11Protocol]:
    """Return the HTTP protocol of a server with limits.

    Args:
        max_connections: Further connections get status 503.
        head_seconds: The time from the opening of a connection, or the first byte of a later
            request, to the end of the request's head.
    """

    def build(**options: Any) -> H11Protocol:
        return _Bounded(max_connections, head_seconds, **options)

    return build


class _Bounded(H11Protocol):
    def __init__(self, max_connections: int, head_seconds: float, **options: Any) -> None:
        super().__init__(**options)
        self._head_seconds = head_seconds
        self._max_connections = max_connections
        self._head_timer: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        if len(self.connections) > self._max_connections:
            transport.write(_FULL)
            transport.close()
            return
        self._expect_head()

    def data_received(self, data: bytes) -> None:
        super().data_received(data)
        self._expect_head()

    def connection_lost(self, exc: Exception | None) -> None:
        self._stop_timer()
        super().connection_lost(exc)

    def _expect_head(self) -> None:
        """Time the next request's head: from the connection's start, or its first byte."""
        if self.cycle is not None and not self.cycle.response_complete:
            self._stop_timer()
        elif self._head_timer is None:
            self._head_timer = self.loop.call_later(self._head_seconds, self._give_up)

    def _stop_timer(self) -> None:
        if self._head_timer is not None:
            self._head_timer.cancel()
            self._head_timer = None

    def _give_up(self) -> None:
        self._head_timer = None
        if self.cycle is None or self.cycle.response_complete:
            self.transport.close()


def allow_open_files(count: int) -> None:
    """Raise this process's limit of open files as far as allowed.

    Connections are files.
    """
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft != resource.RLIM_INFINITY and soft < count:
        limit = count if hard == resource.RLIM_INFINITY else min(count, hard)
        resource.setrlimit(resource.RLIMIT_NOFILE, (limit, hard))
