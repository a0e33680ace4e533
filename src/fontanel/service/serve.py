"""Running the service: open the data directory, start the workers, listen, stop."""

from __future__ import annotations

import ctypes
import os
import signal
import socket
import sqlite3
import sys
from contextlib import suppress
from types import FrameType

import structlog
import uvicorn
from sqlalchemy.exc import DatabaseError

from fontanel import __version__
from fontanel.engine.runtime.runtime import Runtime
from fontanel.engine.runtime.snapshot import in_use, remove_snapshot, take_snapshot
from fontanel.errors import DataInUse, NewerData, Refused, Unavailable
from fontanel.logs import configure_logs
from fontanel.service.app import create_app
from fontanel.service.certificate import Certificate, certificate_problem
from fontanel.service.connections import allow_open_files, protocol
from fontanel.settings import Settings
from fontanel.tracing import configure_traces, end_traces

log = structlog.get_logger()

#: Ticks of the server between two looks at the certificate: a minute.
_LOOK_AT_CERTIFICATE = 600
#: Of glibc's malloc.h.
_M_ARENA_MAX = -8


class _Server(uvicorn.Server):
    """Stops the runtime at the first signal, so that open streams end."""

    def __init__(self, config: uvicorn.Config, runtime: Runtime) -> None:
        super().__init__(config)
        self._runtime = runtime
        settings = runtime.settings
        self._certificate = (
            Certificate(config, settings.tls_certificate, settings.tls_key)
            if settings.tls_certificate is not None
            else None
        )

    async def on_tick(self, counter: int) -> bool:
        """Read a renewed certificate; called ten times a second."""
        if self._certificate is not None and counter % _LOOK_AT_CERTIFICATE == 0:
            self._certificate.renew()
        return await super().on_tick(counter)

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        """Listen, and say so once connections are accepted."""
        await super().startup(sockets)
        if self.started:
            scheme = "https" if self.config.is_ssl else "http"
            address = f"{scheme}://{self.config.host}:{self.config.port}"
            print(f"Fontanel listens on {address}", flush=True)

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        self._runtime.begin_stop()
        super().handle_exit(sig, frame)
        # A second Ctrl-C should not be needed, nor change the exit code of a clean stop.
        self._captured_signals = [
            s for s in getattr(self, "_captured_signals", []) if s != signal.SIGINT
        ]


def spare_memory() -> None:
    """Share two arenas of glibc's allocator.

    With one per thread, freed memory is kept.
    """
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).mallopt(_M_ARENA_MAX, 2)


def run(settings: Settings) -> int:
    """Serve until a signal stops the service; return the exit code."""
    configure_logs(settings.log_level)
    configure_traces(settings.traces, __version__, settings.slow_seconds)
    if problem := certificate_problem(settings.tls_certificate, settings.tls_key):
        print(f"fontanel: {problem}", file=sys.stderr)
        return 1
    spare_memory()
    # Besides connections: segments, databases, workers.
    allow_open_files(settings.max_connections + 4000)
    snapshot = False
    try:
        if settings.read_only and in_use(settings.data):
            settings, snapshot = take_snapshot(settings), True
            print("The data directory is in use: a snapshot of it is served.", flush=True)
        runtime = Runtime(settings)
        runtime.start()
    except (DataInUse, NewerData, Refused, Unavailable) as error:
        print(f"fontanel: {error}", file=sys.stderr)
        return 1
    except (DatabaseError, sqlite3.DatabaseError) as error:
        # There are two databases: the records, and the vector cache, which can be deleted.
        print(
            f"fontanel: A database in {settings.data} cannot be read:"
            f" {getattr(error, 'orig', None) or error}.\nRestore fontanel.db from a backup. If the"
            " damaged file is 'vectors', delete it: it is a cache, and texts are embedded again.",
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
            "\nFirst start. Sign in as operator@localhost with the password"
            f" {runtime.operator_password}\nIt is not shown again; 'fontanel operator password'"
            " makes a new one.\n",
            flush=True,
        )
    config = uvicorn.Config(
        create_app(settings, runtime),
        host=settings.host,
        port=settings.port,
        log_level="warning",
        access_log=False,
        proxy_headers=bool(settings.trusted_proxies),
        forwarded_allow_ips=settings.trusted_proxies or "127.0.0.1",
        timeout_graceful_shutdown=5,
        ssl_certfile=settings.tls_certificate,
        ssl_keyfile=settings.tls_key,
        http=protocol(settings.max_connections, settings.head_seconds),  # type: ignore[arg-type]
    )
    server = _Server(config, runtime)
    try:
        server.run()
    except KeyboardInterrupt:
        pass
    finally:
        runtime.stop()
        if snapshot:
            remove_snapshot(settings)
        end_traces()
    return 0 if server.started else 1
