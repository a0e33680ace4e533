"""A source in a process of its own, under limits of memory and time.

For kinds with untrusted data and drivers: a database may return a cell of a gigabyte, or its driver
may wait for a server that never replies.
"""

from __future__ import annotations

import contextlib
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Mapping
from typing import Any

import msgspec

from fontanel.engine.workers.framing import Message, read_exactly, receive, send
from fontanel.engine.workers.processes import start_process, wait_readable
from fontanel.engine.workers.source_messages import (
    FetchFailed,
    FetchItem,
    ItemFetched,
    ItemsListed,
    ListedItem,
    ListItems,
    OpeningRefused,
    OpenSource,
    SkippedItem,
    SourceFailed,
    SourceOpened,
    SourceReply,
)
from fontanel.sources import (
    Fetched,
    ItemFailed,
    Kind,
    Listed,
    SettingsRefused,
    Skipped,
    Source,
    SourceLimits,
    SourceUnavailable,
)
from fontanel.sources.protocol import PreviousItems

#: Items that are listed with one request.
_PAGE = 500
#: Seconds for opening, and for a reply beyond what the source's own settings allow.
_GRACE = 60.0
#: Seconds between checks whether the run was cancelled.
_POLL = 0.5


class IsolatedSource(Source):
    """The source of a kind, opened and read by a child process."""

    at_once = 1

    def __init__(
        self, kind: Kind, settings: Any, credentials: Mapping[str, Any], limits: SourceLimits
    ) -> None:
        self._limits = limits
        self._seconds = float(getattr(settings, "seconds", 0)) + limits.seconds + _GRACE
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] = start_process(
            [sys.executable, "-m", "fontanel.engine.workers.source_child"]
        )
        opening = OpenSource(
            kind=kind.name,
            settings=settings.model_dump(mode="json"),
            credentials=dict(credentials),
            roots=[str(root) for root in limits.roots],
            networks=[str(network) for network in limits.networks],
            max_bytes=limits.max_bytes,
            seconds=limits.seconds,
            memory_mb=limits.memory_mb,
        )
        reply, _ = self._exchange(opening, SourceOpened | OpeningRefused)
        if isinstance(reply, OpeningRefused):
            self.close()
            raise SettingsRefused(reply.field, reply.error)

    def items(self, previous: PreviousItems) -> Iterator[Listed | Skipped]:
        """Yield the items, page by page."""
        while True:
            reply, _ = self._exchange(ListItems(count=_PAGE), SourceReply)
            assert isinstance(reply, ItemsListed)
            for item in reply.items:
                yield item.skipped() if isinstance(item, SkippedItem) else item.listed()
            if len(reply.items) < _PAGE:
                return

    def fetch(self, item: Listed) -> Fetched:
        """Fetch an item."""
        reply, content = self._exchange(FetchItem(item=ListedItem.of(item)), SourceReply)
        assert isinstance(reply, ItemFetched)
        return Fetched([content], reply.mark, reply.name, reply.changed_at, reply.link, reply.tags)

    def close(self) -> None:
        """End the process."""
        self._process.kill()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._process.wait(timeout=10)
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe is not None:
                with contextlib.suppress(OSError):
                    pipe.close()

    def _exchange(self, request: Message, kind: Any) -> tuple[Message, bytes]:
        """Send a request; return the reply and the bytes after it.

        Raises:
            SourceUnavailable: the source cannot be read, or the process ended.
            ItemFailed: only the item cannot be fetched.
        """
        process = self._process
        assert process.stdin is not None
        assert process.stdout is not None
        with self._lock:
            try:
                send(process.stdin, request)
                self._wait(process)
                reply: Message | None = receive(process.stdout, kind)
                size = reply.size if isinstance(reply, ItemFetched) else 0
                content = None if reply is None else read_exactly(process.stdout, size)
            except (OSError, ValueError, msgspec.ValidationError) as error:
                raise SourceUnavailable("The process that reads the source ended.") from error
        if reply is None or content is None:
            raise SourceUnavailable(
                "The process that reads the source ended: it needs more memory than is allowed.",
                again=False,
            )
        if isinstance(reply, SourceFailed):
            raise SourceUnavailable(reply.error, again=reply.again)
        if isinstance(reply, FetchFailed):
            raise ItemFailed(reply.error)
        return reply, content

    def _wait(self, process: subprocess.Popen[bytes]) -> None:
        deadline = time.monotonic() + self._seconds
        assert process.stdout is not None
        while not wait_readable(process.stdout, _POLL):
            if self._limits.stopping() or time.monotonic() > deadline:
                process.kill()
                raise SourceUnavailable(
                    f"The source did not answer within {self._seconds:.0f} seconds."
                )
