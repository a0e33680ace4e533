"""Worker processes as the service sees them: started when needed, killed when they overrun, ended when idle."""

from __future__ import annotations

import contextlib
import select
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from fontanel.core.embedding.encoder import check_unit_vectors
from fontanel.engine.workers.child import read_exactly, receive, send
from fontanel.errors import Unavailable

# A worker asks the kernel to die with its parent, and by that the kernel means the *thread* that started it (prctl(2),
# PR_SET_PDEATHSIG). Requests come on threads that end when idle, so one thread that stays starts all workers.
_starter = ThreadPoolExecutor(max_workers=1, thread_name_prefix="start-workers")


def start_process(command: Sequence[str]) -> subprocess.Popen[bytes]:
    """Start a worker process that talks over stdin and stdout.

    Without buffers: `select` must see every message that has arrived. In a session of its own: a Ctrl-C at the terminal reaches
    the service, which then ends its workers.
    """
    return _starter.submit(
        subprocess.Popen[bytes],
        command,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        bufsize=0,
        start_new_session=True,
    ).result()


class WorkerDied(Unavailable):
    """The worker process ended or was killed before it answered."""


class WorkerOverran(WorkerDied):
    """The worker took longer than allowed and was killed."""


class Worker:
    """One worker process of a kind ("read" or "embed"), used by one thread at a time."""

    def __init__(self, kind: str, embedder: Path, number: int) -> None:
        self._command = [
            sys.executable,
            "-m",
            "fontanel.engine.workers.child",
            kind,
            str(embedder),
            str(number),
        ]
        self._process: subprocess.Popen[bytes] | None = None
        self._lock = threading.Lock()
        self._used = time.monotonic()

    def _running(self) -> subprocess.Popen[bytes]:
        if self._process is None or self._process.poll() is not None:
            self._process = start_process(self._command)
        return self._process

    def _exchange(
        self, request: dict[str, Any], seconds: float, on_message: Callable[[dict[str, Any]], bool]
    ) -> None:
        """Send a request and hand replies on until `on_message` says that one was the last."""
        process = self._running()
        assert process.stdin is not None
        assert process.stdout is not None
        deadline = time.monotonic() + seconds
        try:
            send(process.stdin, request)
            while True:
                ready, _, _ = select.select(
                    [process.stdout], [], [], max(0.0, deadline - time.monotonic())
                )
                if not ready:
                    self._kill()
                    raise WorkerOverran(f"took more than {seconds:.0f} seconds")
                message = receive(process.stdout)
                if message is None:
                    raise WorkerDied("the process ended")
                if on_message(message):
                    return
        except (BrokenPipeError, OSError, ValueError) as error:
            self._kill()
            raise WorkerDied(str(error)) from error
        except WorkerDied:
            self._kill()
            raise
        finally:
            self._used = time.monotonic()

    def read(
        self,
        request: dict[str, Any],
        seconds: float,
        on_progress: Callable[[dict[str, Any]], None] = lambda message: None,
        on_attached: Callable[[int, bytes], None] = lambda number, data: None,
    ) -> dict[str, Any]:
        """Have a document read and split (`path`, `name`, `settings`, `columns`), a page of it drawn (`draw`, `width`), or a pack
        verified (`pack`, `embedder`, `dimensions`). `on_attached` gets the bytes that follow the reply, part by part. Raises WorkerDied or WorkerOverran."""
        last: dict[str, Any] = {}

        def on_message(message: dict[str, Any]) -> bool:
            if "progress" in message or "stage" in message:
                on_progress(message)
                return False
            last.update(message)
            assert self._process is not None
            assert self._process.stdout is not None
            for number, size in enumerate(message.get("attached", ())):
                data = read_exactly(self._process.stdout, size)
                if data is None:
                    raise WorkerDied("the process ended")
                on_attached(number, data)
            return True

        with self._lock:
            self._exchange(request, seconds, on_message)
        return last

    def embed(self, texts: Sequence[str], seconds: float = 600.0) -> npt.NDArray[np.float32]:
        """Unit vectors, one a text. Raises WorkerDied."""
        out: list[npt.NDArray[np.float32]] = []

        def on_message(message: dict[str, Any]) -> bool:
            assert self._process is not None
            assert self._process.stdout is not None
            count = message["rows"] * message["columns"]
            data = read_exactly(self._process.stdout, count * 4)
            if data is None:
                raise WorkerDied("the process ended")
            out.append(
                np.frombuffer(data, dtype=np.float32).reshape(message["rows"], message["columns"])
            )
            check_unit_vectors(
                out[0]
            )  # a ValueError here ends the worker: its vectors are of no use
            return True

        with self._lock:
            self._exchange({"texts": list(texts)}, seconds, on_message)
        return out[0]

    def end_if_idle(self, seconds: float) -> None:
        if self._lock.acquire(blocking=False):
            try:
                if self._process is not None and time.monotonic() - self._used > seconds:
                    self._kill()
            finally:
                self._lock.release()

    def stop(self) -> None:
        self._kill()

    def _kill(self) -> None:
        process, self._process = self._process, None
        if process is not None:
            process.kill()
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(timeout=10)
            for pipe in (process.stdin, process.stdout):
                if pipe is not None:
                    with contextlib.suppress(OSError):
                        pipe.close()
