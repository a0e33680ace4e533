"""A server that has imported Fontanel once and forks a process for each request.

Importing the service takes seconds, and the tests start it hundreds of times. A forked process has
its own arguments, environment, directory and standard streams, like a process started by a shell.
A request is a JSON object with three file descriptors; the answers are the process id, and the
exit code when the process has ended.
"""

from __future__ import annotations

import gc
import importlib
import json
import os
import selectors
import signal
import socket
import sys
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from fontanel.engine.workers.lifetime import die_with_parent

#: What commands import when they run. Not `onnxruntime`: processes forked after it hang at exit.
_IMPORTED = (
    "fontanel.service.serve",
    "fontanel.simulators.bucket",
    "fontanel.tools.server",
    "alembic.command",
)
#: Bytes of a request: arguments and environment.
_MAX_REQUEST = 200_000


def serve_requests(address: str) -> list[str]:
    """Fork a process for each request; return in each of them, with its arguments.

    Ends when standard input is closed, which it is when the process that started it has ended.
    """
    listener = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    listener.bind(f"{address}.new")
    listener.listen(64)
    os.rename(f"{address}.new", address)
    waiting = selectors.DefaultSelector()
    waiting.register(listener, selectors.EVENT_READ)
    waiting.register(sys.stdin, selectors.EVENT_READ)
    while True:
        for key, _ in waiting.select():
            if isinstance(key.data, _Ended):
                key.data.report(waiting)
            elif isinstance(key.data, _Left):
                key.data.kill(waiting)
            elif key.fileobj is sys.stdin:
                sys.exit(0)
            else:
                request = _accept(listener, waiting)
                if request is not None:
                    return _become(*request)


def _accept(
    listener: socket.socket, waiting: selectors.BaseSelector
) -> tuple[dict[str, Any], list[int]] | None:
    """Fork for the next request; return it in the new process."""
    connection, _ = listener.accept()
    content, streams, _, _ = socket.recv_fds(connection, _MAX_REQUEST, 3)
    pid = os.fork()
    if pid == 0:
        for other in list(waiting.get_map().values()):
            if other.fd > 2:
                os.close(other.fd)
        waiting.close()
        os.close(connection.detach())
        return json.loads(content), streams
    for stream in streams:
        os.close(stream)
    connection.send(json.dumps(pid).encode())
    process = os.pidfd_open(pid)
    waiting.register(connection, selectors.EVENT_READ, _Left(pid, connection))
    waiting.register(process, selectors.EVENT_READ, _Ended(pid, process, connection))
    return None


@dataclass(frozen=True)
class _Left:
    """Whoever asked for the process has closed the connection."""

    pid: int
    connection: socket.socket

    def kill(self, waiting: selectors.BaseSelector) -> None:
        waiting.unregister(self.connection)
        with suppress(ProcessLookupError):
            os.kill(self.pid, signal.SIGKILL)


@dataclass(frozen=True)
class _Ended:
    """The process has ended."""

    pid: int
    process: int
    connection: socket.socket

    def report(self, waiting: selectors.BaseSelector) -> None:
        waiting.unregister(self.process)
        os.close(self.process)
        code = os.waitstatus_to_exitcode(os.waitpid(self.pid, 0)[1])
        with suppress(KeyError):  # not after `_Left`
            waiting.unregister(self.connection)
        with suppress(OSError):
            self.connection.send(json.dumps(code).encode())
        self.connection.close()


def _become(request: dict[str, Any], streams: list[int]) -> list[str]:
    """Take over the environment and the streams of a request."""
    die_with_parent()
    if request["session"]:
        os.setsid()
    os.chdir(request["folder"])
    os.environ.clear()
    os.environ.update(request["environment"])
    for number, stream in enumerate(streams):
        os.dup2(stream, number)
        os.close(stream)
    sys.stdin = os.fdopen(0)
    sys.stdout = os.fdopen(1, "w", buffering=1 if os.isatty(1) else -1)
    sys.stderr = os.fdopen(2, "w", buffering=1, errors="backslashreplace")
    sys.argv = ["fontanel", *request["arguments"]]
    signal.signal(signal.SIGINT, signal.default_int_handler)
    gc.enable()
    return list(request["arguments"])


if __name__ == "__main__":
    gc.disable()
    for module in _IMPORTED:
        importlib.import_module(module)
    from fontanel.cli.main import main

    gc.freeze()
    sys.exit(main(serve_requests(sys.argv[1])))
