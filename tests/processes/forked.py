"""Starts processes by a fork server, which is started when it is first needed."""

from __future__ import annotations

import atexit
import json
import os
import select
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import IO, Any, TextIO

from tests.processes.launch import request

ROOT = Path(__file__).parent.parent.parent

_LAUNCHER = f"""#!{sys.executable} -ISE
import sys
sys.path.append({str(ROOT)!r})
from tests.processes.launch import launch
sys.exit(launch({{address!r}}))
"""


class ForkedProcess:
    """A process of the fork server, with the methods of `subprocess.Popen` that tests use."""

    def __init__(self, connection: socket.socket) -> None:
        self._connection = connection
        self.stdout: TextIO | None = None
        self.pid: int = json.loads(connection.recv(100))
        self.returncode: int | None = None

    def poll(self) -> int | None:
        """Return the exit code, or None while the process runs."""
        return self._look(0)

    def wait(self, timeout: float | None = None) -> int:
        """Wait for the end; return the exit code, which is negative after a signal."""
        code = self._look(timeout)
        if code is None:
            raise subprocess.TimeoutExpired("fontanel", timeout or 0)
        return code

    def send_signal(self, number: int) -> None:
        if self.poll() is None:
            os.kill(self.pid, number)

    def kill(self) -> None:
        self.send_signal(signal.SIGKILL)

    def terminate(self) -> None:
        self.send_signal(signal.SIGTERM)

    def _look(self, timeout: float | None) -> int | None:
        if self.returncode is None and select.select([self._connection], [], [], timeout)[0]:
            self.returncode = json.loads(self._connection.recv(100))
            self._connection.close()
        return self.returncode


@cache
def _folder() -> Path:
    """Start this process's fork server; return the folder with its socket and its launcher."""
    folder = Path(tempfile.mkdtemp(prefix="fontanel-fork-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    command = [sys.executable, "-m", "tests.processes.fork_server", str(folder / "socket")]
    # Threads of a library would be missing in the forked processes.
    environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}
    server = subprocess.Popen(command, cwd=ROOT, stdin=subprocess.PIPE, env=environment)
    atexit.register(server.kill)
    while not (folder / "socket").exists():
        assert server.poll() is None, "the fork server ended"
        time.sleep(0.02)
    launcher = folder / "fontanel"
    launcher.write_text(_LAUNCHER.format(address=str(folder / "socket")))
    launcher.chmod(0o755)
    return folder


def launcher() -> Path:
    """Return a program `fontanel`, for shells and other programs."""
    return _folder() / "fontanel"


def begin(
    arguments: Sequence[str],
    environment: Mapping[str, str],
    streams: Sequence[int | IO[Any]],
    folder: str | Path = ROOT,
    session: bool = False,
) -> ForkedProcess:
    """Start `fontanel` with standard input, output and error, in a session of its own or not."""
    numbers = [stream if isinstance(stream, int) else stream.fileno() for stream in streams]
    address = str(_folder() / "socket")
    return ForkedProcess(
        request(address, list(arguments), dict(environment), numbers, str(folder), session)
    )


def serve(arguments: Sequence[str], environment: Mapping[str, str], log: Path) -> ForkedProcess:
    """Start a server in a session of its own, with its standard output in a pipe."""
    output, written = os.pipe()
    with open(os.devnull) as nothing, log.open("ab") as errors:
        process = begin(arguments, environment, [nothing, written, errors], session=True)
    os.close(written)
    process.stdout = os.fdopen(output)
    return process


def run(
    arguments: Sequence[object], environment: Mapping[str, str], folder: Path
) -> subprocess.CompletedProcess[str]:
    """Run a command to its end, with nothing on its standard input."""
    with (
        open(os.devnull) as nothing,
        tempfile.TemporaryFile("w+") as output,
        tempfile.TemporaryFile("w+") as errors,
    ):
        words = [str(argument) for argument in arguments]
        code = begin(words, environment, [nothing, output, errors], folder).wait()
        output.seek(0)
        errors.seek(0)
        return subprocess.CompletedProcess(words, code, output.read(), errors.read())
