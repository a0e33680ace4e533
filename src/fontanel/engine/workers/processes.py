"""Worker processes as the service sees them: started on demand, killed on overrun."""

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
from typing import IO, Any, Protocol

import msgspec
import numpy as np
import numpy.typing as npt
import structlog

from fontanel.core.embedding.encoder import check_unit_vectors
from fontanel.engine.workers.embedding_messages import EmbedTexts, Vectors
from fontanel.engine.workers.framing import Failed, read_exactly, receive, send
from fontanel.engine.workers.messages import PagesRead, ReadReply, ReadRequest, Splitting
from fontanel.errors import Unavailable

log = structlog.get_logger()

# A worker asks the kernel to die with its parent, and by that the kernel means the *thread* that
# started it (prctl(2), PR_SET_PDEATHSIG). Requests come on threads that end when idle, so one
# thread that stays starts all workers.
_starter = ThreadPoolExecutor(max_workers=1, thread_name_prefix="start-workers")

#: Bytes of a worker's last error output that are logged when it dies.
_MAX_STDERR = 4_000
#: Seconds that a killed process has to be gone.
_KILLED = 10.0

#: What a worker replies last, with the bytes that follow.
FinalReply = ReadReply
OnProgress = Callable[[PagesRead | Splitting], None]
OnAttached = Callable[[bytes], None]


def start_process(
    command: Sequence[str], stderr: int = subprocess.DEVNULL
) -> subprocess.Popen[bytes]:
    """Start a worker process that communicates over stdin and stdout.

    Unbuffered: `select` must see every message that has arrived. In a session of its own: Ctrl-C at
    the terminal reaches the service, which then ends its workers.
    """
    return _starter.submit(
        subprocess.Popen[bytes],
        command,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=stderr,
        bufsize=0,
        start_new_session=True,
    ).result()


def wait_readable(stream: IO[bytes], seconds: float) -> bool:
    """Wait until a pipe has data or has ended; return whether it does within the time.

    Not with `select`, which knows no descriptors above 1,023: many segment files may be open.
    """
    poll = select.poll()
    poll.register(stream, select.POLLIN)
    return bool(poll.poll(seconds * 1000))


class WorkerDied(Unavailable):
    """A worker process ended or was killed before it replied."""


class WorkerOverran(WorkerDied):
    """A worker took longer than allowed and was killed."""


class EmbedderBroken(WorkerDied):
    """An embedder cannot be loaded; the message says why."""


class ErrorOutput:
    """Keeps the end of what a process writes to stderr."""

    def __init__(self, stream: IO[bytes]) -> None:
        self._tail = b""
        self._stream = stream
        self._thread = threading.Thread(target=self._drain, name="worker-stderr", daemon=True)
        self._thread.start()

    def _drain(self) -> None:
        with contextlib.suppress(OSError, ValueError):
            while chunk := self._stream.read(_MAX_STDERR):
                self._tail = (self._tail + chunk)[-_MAX_STDERR:]

    def text(self) -> str:
        """Return it, once the process has ended."""
        self._thread.join(timeout=1.0)
        return self._tail.decode(errors="replace").strip()


class DocumentReader(Protocol):
    """Has documents read: a process of this machine, or a cluster."""

    def read(
        self,
        request: ReadRequest,
        seconds: float,
        on_progress: OnProgress = ...,
        on_attached: OnAttached = ...,
    ) -> ReadReply:
        """See `Worker.read`."""
        ...


class Worker:
    """One worker process of a kind ("read" or "embed"), used by one thread at a time."""

    def __init__(self, kind: str, embedder: Path, number: int) -> None:
        self._kind = kind
        self._command = [
            sys.executable,
            "-m",
            "fontanel.engine.workers.child",
            kind,
            str(embedder),
            str(number),
        ]
        self._process: subprocess.Popen[bytes] | None = None
        self._errors: ErrorOutput | None = None
        self._lock = threading.Lock()
        self._used = time.monotonic()

    def read(
        self,
        request: ReadRequest,
        seconds: float,
        on_progress: OnProgress = lambda progress: None,
        on_attached: OnAttached = lambda data: None,
    ) -> ReadReply:
        """Have a document read, a page drawn, links found or a pack verified.

        Args:
            request: What to do.
            seconds: The time limit.
            on_progress: Called with each report of progress.
            on_attached: Called with each part that follows the reply.

        Raises:
            WorkerDied: the process ended.
            WorkerOverran: it took too long and was killed.
        """
        with self._lock, self._exchange() as (stdin, stdout):
            send(stdin, request)
            deadline = time.monotonic() + seconds
            while True:
                self._wait(stdout, deadline, seconds)
                reply: ReadReply | None = receive(stdout, ReadReply)
                if reply is None:
                    raise WorkerDied("The process ended.")
                if isinstance(reply, PagesRead | Splitting):
                    on_progress(reply)
                    continue
                for size in getattr(reply, "attached", ()):
                    on_attached(_part(stdout, size))
                return reply

    def embed(self, texts: Sequence[str], seconds: float = 600.0) -> npt.NDArray[np.float32]:
        """Return unit vectors, one for each text.

        Raises:
            WorkerDied: the process ended, or returned something else.
        """
        with self._lock, self._exchange() as (stdin, stdout):
            send(stdin, EmbedTexts(texts=list(texts)))
            self._wait(stdout, time.monotonic() + seconds, seconds)
            reply: Vectors | Failed | None = receive(stdout, Vectors | Failed)
            if reply is None:
                raise WorkerDied("The process ended.")
            if isinstance(reply, Failed):
                raise EmbedderBroken(reply.error)
            data = _part(stdout, reply.attached[0])
            vectors = np.frombuffer(data, dtype=np.float32).reshape(reply.rows, reply.columns)
            check_unit_vectors(vectors)
            return vectors

    def end_if_idle(self, seconds: float) -> None:
        """End the process if it was idle for this many seconds."""
        if self._lock.acquire(blocking=False):
            try:
                if self._process is not None and time.monotonic() - self._used > seconds:
                    self._kill()
            finally:
                self._lock.release()

    def stop(self) -> None:
        """End the process."""
        self._kill()

    @contextlib.contextmanager
    def _exchange(self) -> Any:
        """Give the process's pipes for one request; a process that misbehaves is killed."""
        process = self._running()
        assert process.stdin is not None
        assert process.stdout is not None
        try:
            yield process.stdin, process.stdout
        except WorkerDied:
            self._end_badly()
            raise
        except (OSError, ValueError, msgspec.ValidationError) as error:
            log.warning("worker process replaced", worker=self._kind, error=repr(error))
            self._end_badly()
            raise WorkerDied(str(error)) from error
        finally:
            self._used = time.monotonic()

    def _running(self) -> subprocess.Popen[bytes]:
        if self._process is None or self._process.poll() is not None:
            self._process = start_process(self._command, stderr=subprocess.PIPE)
            assert self._process.stderr is not None
            self._errors = ErrorOutput(self._process.stderr)
        return self._process

    def _wait(self, stdout: IO[bytes], deadline: float, seconds: float) -> None:
        if not wait_readable(stdout, max(0.0, deadline - time.monotonic())):
            raise WorkerOverran(f"It took more than {seconds:.0f} seconds.")

    def _end_badly(self) -> None:
        errors = self._errors
        self._kill()
        if errors is not None and (text := errors.text()):
            log.warning("worker process failed", worker=self._kind, stderr=text)

    def _kill(self) -> None:
        process, self._process = self._process, None
        if process is not None:
            process.kill()
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(timeout=_KILLED)
            for pipe in (process.stdin, process.stdout, process.stderr):
                if pipe is not None:
                    with contextlib.suppress(OSError):
                        pipe.close()


def _part(stdout: IO[bytes], size: int) -> bytes:
    data = read_exactly(stdout, size)
    if data is None:
        raise WorkerDied("The process ended.")
    return data
