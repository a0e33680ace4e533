"""A source in a process of its own, under limits of memory and time: for kinds whose data and drivers are not to be trusted.

A database may return a cell of a gigabyte, or its driver may wait for a server that never ends its answer.
"""

from __future__ import annotations

import contextlib
import select
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Mapping
from typing import Any

from fontanel.engine.workers.child import read_exactly, receive, send
from fontanel.engine.workers.processes import start_process
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
from fontanel.sources.protocol import Known

_PAGE = 500
#: Seconds that the process has for opening, and for a reply beyond what the source's own settings allow.
_GRACE = 60.0


class IsolatedSource(Source):
    """The source of a kind, opened and read by a child process."""

    at_once = 1

    def __init__(
        self,
        kind: Kind,
        settings: Any,
        credentials: Mapping[str, Any],
        limits: SourceLimits,
        memory_mb: int,
    ) -> None:
        self._limits = limits
        self._seconds = float(getattr(settings, "seconds", 0)) + limits.seconds + _GRACE
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] = start_process(
            [sys.executable, "-m", "fontanel.engine.workers.source_child"]
        )
        reply = self._exchange(
            {
                "kind": kind.name,
                "settings": settings.model_dump(mode="json"),
                "credentials": dict(credentials),
                "roots": [str(root) for root in limits.roots],
                "networks": [str(network) for network in limits.networks],
                "max_bytes": limits.max_bytes,
                "seconds": limits.seconds,
                "memory_mb": memory_mb,
            }
        )[0]
        if "refused" in reply:
            self.close()
            raise SettingsRefused(reply["field"], reply["refused"])

    def items(self, known: Known) -> Iterator[Listed | Skipped]:
        while True:
            page = self._exchange({"more": _PAGE})[0]["items"]
            for kind, values in page:
                yield Skipped(*values) if kind == "skipped" else Listed(*values)
            if len(page) < _PAGE:
                return

    def fetch(self, item: Listed) -> Fetched:
        reply, content = self._exchange({"fetch": list(item._replace(fetched=None))})
        return Fetched(
            [content],
            reply["mark"],
            reply["name"],
            reply["changed_at"],
            reply["link"],
            reply["tags"],
        )

    def close(self) -> None:
        self._process.kill()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._process.wait(timeout=10)
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe is not None:
                with contextlib.suppress(OSError):
                    pipe.close()

    def _exchange(self, request: dict[str, Any]) -> tuple[dict[str, Any], bytes]:
        """Send a request; return the reply and the bytes after it. Raises SourceUnavailable or ItemFailed."""
        process = self._process
        assert process.stdin is not None
        assert process.stdout is not None
        with self._lock:
            try:
                send(process.stdin, request)
                self._wait(process)
                reply = receive(process.stdout)
                content = (
                    None if reply is None else read_exactly(process.stdout, reply.get("size", 0))
                )
            except (OSError, ValueError) as error:
                raise SourceUnavailable("The process that reads the source ended.") from error
        if reply is None or content is None:
            raise SourceUnavailable(
                "The process that reads the source ended: it needs more memory than is allowed.",
                again=False,
            )
        if "unavailable" in reply:
            raise SourceUnavailable(reply["unavailable"], reply["again"])
        if "failed" in reply:
            raise ItemFailed(reply["failed"])
        return reply, content

    def _wait(self, process: subprocess.Popen[bytes]) -> None:
        until = time.monotonic() + self._seconds
        assert process.stdout is not None
        while not select.select([process.stdout], [], [], 0.5)[0]:
            if self._limits.stopping() or time.monotonic() > until:
                process.kill()
                raise SourceUnavailable(
                    f"The source did not answer within {self._seconds:.0f} seconds."
                )
