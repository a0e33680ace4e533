"""What a worker of the cluster runs: the same limited processes as on the service's machine.

Messages and files come by value, in the form that worker processes take them. Whatever a document
does to a process that reads it, the reply says so: an exception would be a fault of the cluster.
"""

from __future__ import annotations

import contextlib
import io
import queue
import tempfile
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import NamedTuple

from fontanel import __version__
from fontanel.core.embedding.directory import directory_facts
from fontanel.engine.workers.framing import message_bytes, receive
from fontanel.engine.workers.messages import PagesRead, ReadDocument, Splitting
from fontanel.engine.workers.processes import EmbedderBroken, Worker, WorkerDied, WorkerOverran
from fontanel.settings import Settings

#: The topic under which a task's progress is logged.
PROGRESS = "fontanel-progress"


class Needs(NamedTuple):
    """What a worker must have for its results to be those of the service."""

    version: str
    embedder: str | None


class Result(NamedTuple):
    """How a task ended: `done`, `died`, `overran`, `broken`, or `unfit`: not for this worker."""

    outcome: str
    reply: bytes = b""
    attached: tuple[bytes, ...] = ()
    reason: str = ""


def read_document(
    needs: Needs, message: bytes, files: dict[str, bytes], seconds: float, task: str
) -> Result:
    """Read and split a document.

    Args:
        needs: What this worker must have.
        message: A `ReadDocument`, whose paths are replaced by those of temporary files.
        files: The bytes of the document, and of its stored reading, by the message's field.
        seconds: The time limit.
        task: What its progress is logged under.
    """
    if reason := unfit(needs):
        return Result("unfit", reason=reason)
    request = receive(io.BytesIO(message), ReadDocument)
    assert request is not None
    attached: list[bytes] = []
    with tempfile.TemporaryDirectory(prefix="fontanel-") as folder, _worker("read") as worker:
        for field, data in files.items():
            path = Path(folder) / field
            path.write_bytes(data)
            setattr(request, field, str(path))
        try:
            reply = worker.read(request, seconds, _logger(task), attached.append)
        except WorkerOverran as error:
            return Result("overran", reason=str(error))
        except WorkerDied as error:
            return Result("died", reason=str(error))
    return Result("done", message_bytes(reply), tuple(attached))


def embed_texts(needs: Needs, texts: list[str]) -> Result:
    """Return unit vectors of texts: float32 in C order, one row for each text."""
    if reason := unfit(needs):
        return Result("unfit", reason=reason)
    with _worker("embed") as worker:
        try:
            vectors = worker.embed(texts)
        except EmbedderBroken as error:
            return Result("broken", reason=str(error))
        except WorkerDied as error:
            return Result("died", reason=str(error))
    return Result("done", attached=(vectors.tobytes(),))


def unfit(needs: Needs) -> str:
    """Return why results of this worker would not be those of the service; empty if they are."""
    if needs.version != __version__:
        return f"A worker runs version {__version__}, the service {needs.version}."
    embedder = _own_embedder()
    if needs.embedder != embedder:
        return f"A worker has the embedder {embedder}, the service {needs.embedder}."
    return ""


@cache
def _settings() -> Settings:
    return Settings()


@cache
def _own_embedder() -> str | None:
    directory = _settings().embedder_directory
    return directory_facts(directory).name if (directory / "model.onnx").is_file() else None


@cache
def _idle(kind: str) -> queue.SimpleQueue[Worker]:
    """Return the processes of a kind that wait for work."""
    return queue.SimpleQueue()


@contextlib.contextmanager
def _worker(kind: str) -> Iterator[Worker]:
    """Lend a process: there are as many as this worker has threads."""
    settings = _settings()
    number = settings.read_memory_mb if kind == "read" else settings.embed_threads
    try:
        worker = _idle(kind).get_nowait()
    except queue.Empty:
        worker = Worker(kind, settings.embedder_directory, number)
    try:
        yield worker
    finally:
        _idle(kind).put(worker)


def _logger(task: str) -> Callable[[PagesRead | Splitting], None]:
    from distributed import get_worker

    cluster_worker = get_worker()

    def log(progress: PagesRead | Splitting) -> None:
        cluster_worker.log_event(PROGRESS, {"task": task, "message": message_bytes(progress)})

    return log
