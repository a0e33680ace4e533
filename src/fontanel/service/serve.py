"""Running the service: open the data directory, start the work, listen, stop cleanly."""

from __future__ import annotations

import ctypes
import logging
import signal
import sys
from contextlib import suppress
from types import FrameType

import structlog
import uvicorn

from fontanel.service.app import create_app
from fontanel.service.connections import allow_open_files, protocol
from fontanel.settings import Settings
from fontanel.work.workshop import DataInUse, Workshop

#: Of glibc's malloc.h.
_M_ARENA_MAX = -8


class _Server(uvicorn.Server):
    """Tells the workshop at the first signal, so that open event streams end and the server can."""

    def __init__(self, config: uvicorn.Config, workshop: Workshop) -> None:
        super().__init__(config)
        self._workshop = workshop

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        self._workshop.begin_stop()
        super().handle_exit(sig, frame)
        # A second Ctrl-C should not be needed, nor change the exit code of a clean stop.
        self._captured_signals = [s for s in getattr(self, "_captured_signals", []) if s != signal.SIGINT]


def spare_memory() -> None:
    """Let threads share two arenas of the C library: with one for each, what they free stays with them (glibc)."""
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).mallopt(_M_ARENA_MAX, 2)


def configure_logs() -> None:
    """One JSON object a line, to stderr."""
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
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
        workshop = Workshop(settings)
    except DataInUse as error:
        print(f"fontanel: {error}", file=sys.stderr)
        return 1
    workshop.start()
    if workshop.operator_password:
        print(
            f"\nFirst start. Sign in as operator@localhost with the password {workshop.operator_password}\n"
            "It is not shown again; 'fontanel operator password' makes a new one.\n",
            flush=True,
        )
    print(f"Fontanel listens on http://{settings.host}:{settings.port}", flush=True)
    config = uvicorn.Config(
        create_app(settings, workshop), host=settings.host, port=settings.port, log_level="warning", access_log=False,
        timeout_graceful_shutdown=5, http=protocol(settings.max_connections, settings.head_seconds),  # type: ignore[arg-type]
    )  # fmt: skip
    server = _Server(config, workshop)
    try:
        server.run()
    except KeyboardInterrupt:
        pass
    finally:
        workshop.stop()
    return 0 if server.started else 1
