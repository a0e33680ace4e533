"""Running the service: open the data directory, start the work, listen, stop cleanly."""

from __future__ import annotations

import ctypes
import logging
import os
import signal
import sqlite3
import sys
import traceback
from collections.abc import MutableMapping
from contextlib import suppress
from types import FrameType
from typing import Any

import structlog
import uvicorn
from sqlalchemy.exc import DatabaseError

from fontanel.engine.runtime.runtime import Runtime
from fontanel.errors import DataInUse
from fontanel.service.app import create_app
from fontanel.service.connections import allow_open_files, protocol
from fontanel.settings import Settings

log = structlog.get_logger()

#: Of glibc's malloc.h.
_M_ARENA_MAX = -8


class _Server(uvicorn.Server):
    """Tells the runtime at the first signal, so that open event streams end and the server can."""

    def __init__(self, config: uvicorn.Config, runtime: Runtime) -> None:
        super().__init__(config)
        self._workshop = runtime

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        self._workshop.begin_stop()
        super().handle_exit(sig, frame)
        # A second Ctrl-C should not be needed, nor change the exit code of a clean stop.
        self._captured_signals = [
            s for s in getattr(self, "_captured_signals", []) if s != signal.SIGINT
        ]


def spare_memory() -> None:
    """Let threads share two arenas of the C library: with one for each, what they free stays with them (glibc)."""
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).mallopt(_M_ARENA_MAX, 2)


def _name_exception(
    logger: Any, method: str, event: MutableMapping[str, Any]
) -> MutableMapping[str, Any]:
    """Write down where an exception came from, without its message: that often quotes what people keep or asked."""
    info = event.pop("exc_info", None)
    if info is True:
        info = sys.exc_info()
    error = (
        info if isinstance(info, BaseException) else info[1] if isinstance(info, tuple) else None
    )
    if error is None:
        return event
    lines: list[str] = []
    seen: BaseException | None = error
    while seen is not None and len(lines) < 200:
        lines += [f"{type(seen).__module__}.{type(seen).__qualname__}"]
        lines += [
            f"  {frame.filename}:{frame.lineno} {frame.name}"
            for frame in traceback.extract_tb(seen.__traceback__)
        ]
        seen = seen.__cause__ or (None if seen.__suppress_context__ else seen.__context__)
    event["exception"] = "\n".join(lines)
    return event


def configure_logs() -> None:
    """One JSON object a line, to stderr."""
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            _name_exception,
            structlog.processors.JSONRenderer(),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(logging.INFO),
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )


def run(settings: Settings) -> int:
    """Serve until told to stop; return the exit code."""
    configure_logs()
    spare_memory()
    # Besides connections: segments, databases, workers.
    allow_open_files(settings.max_connections + 4000)
    try:
        runtime = Runtime(settings)
        runtime.start()
    except DataInUse as error:
        print(f"fontanel: {error}", file=sys.stderr)
        return 1
    except (DatabaseError, sqlite3.DatabaseError) as error:
        # Of our own database files there are two: the records, and the vector cache, which can be thrown away.
        print(
            f"fontanel: A database in {settings.data} cannot be read: {getattr(error, 'orig', None) or error}.\n"
            "Put fontanel.db back from a backup. If it is the file 'vectors' that is damaged, remove it: texts are embedded again.",
            file=sys.stderr,
        )
        return 1
    except OSError as error:
        print(
            f"fontanel: {settings.data} cannot be used: {error.strerror or error}.", file=sys.stderr
        )
        return 1
    if os.geteuid() == 0:
        log.warning(
            "running as root",
            advice="Run the service as a user of its own that owns the data directory only.",
        )
    if runtime.operator_password:
        print(
            f"\nFirst start. Sign in as operator@localhost with the password {runtime.operator_password}\n"
            "It is not shown again; 'fontanel operator password' makes a new one.\n",
            flush=True,
        )
    print(f"Fontanel listens on http://{settings.host}:{settings.port}", flush=True)
    config = uvicorn.Config(
        create_app(settings, runtime),
        host=settings.host,
        port=settings.port,
        log_level="warning",
        access_log=False,
        proxy_headers=bool(settings.trusted_proxies),
        forwarded_allow_ips=settings.trusted_proxies or "127.0.0.1",
        timeout_graceful_shutdown=5,
        http=protocol(settings.max_connections, settings.head_seconds),  # type: ignore[arg-type]
    )
    server = _Server(config, runtime)
    try:
        server.run()
    except KeyboardInterrupt:
        pass
    finally:
        runtime.stop()
    return 0 if server.started else 1
