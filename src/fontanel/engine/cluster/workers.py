"""Workers of the cluster in the place of worker processes, which do the work while it is away."""

from __future__ import annotations

import contextlib
import io
import queue
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec
import numpy as np

from fontanel.core.embedding.encoder import check_unit_vectors
from fontanel.engine.cluster.connection import Cluster, ClusterAway
from fontanel.engine.cluster.tasks import Needs, Result, embed_texts, read_document
from fontanel.engine.ingest.passage_embedders import Embedded, Owned, WorkerEmbedder
from fontanel.engine.workers.framing import message_bytes, receive
from fontanel.engine.workers.messages import DocumentRead, ReadDocument, ReadReply, ReadRequest
from fontanel.engine.workers.processes import (
    EmbedderBroken,
    OnAttached,
    OnProgress,
    Worker,
    WorkerDied,
    WorkerOverran,
)

#: Larger documents are read on the service's machine: the scheduler keeps what is sent.
_MAX_BYTES = 64_000_000
#: Seconds that a worker of the cluster has to embed the texts of one task.
_EMBED_SECONDS = 600.0


class LocalWorkers:
    """Processes of this machine, each lent to one thread at a time."""

    def __init__(self, workers: Sequence[Worker]) -> None:
        self._idle: queue.SimpleQueue[Worker] = queue.SimpleQueue()
        for worker in workers:
            self._idle.put(worker)

    @contextlib.contextmanager
    def lent(self) -> Iterator[Worker]:
        """Lend one, once one is idle."""
        worker = self._idle.get()
        try:
            yield worker
        finally:
            self._idle.put(worker)


class ClusterReader:
    """Reads documents on the cluster, or with a process of this machine while it is away."""

    def __init__(self, cluster: Cluster, needs: Needs, local: LocalWorkers) -> None:
        self._cluster = cluster
        self._needs = needs
        self._local = local

    def read(
        self,
        request: ReadRequest,
        seconds: float,
        on_progress: OnProgress = lambda progress: None,
        on_attached: OnAttached = lambda data: None,
    ) -> ReadReply:
        """Have a document read; see `Worker.read`."""
        if isinstance(request, ReadDocument) and self._cluster.available:
            files = _files(request)
            if files is not None:
                with contextlib.suppress(ClusterAway):
                    return self._read(request, files, seconds, on_progress, on_attached)
        if self._cluster.stopping:
            raise WorkerDied("The service stops.")
        with self._local.lent() as worker:
            return worker.read(request, seconds, on_progress, on_attached)

    def _read(
        self,
        request: ReadDocument,
        files: dict[str, bytes],
        seconds: float,
        on_progress: OnProgress,
        on_attached: OnAttached,
    ) -> ReadReply:
        result = self._cluster.run(
            read_document,
            self._needs,
            message_bytes(request),
            files,
            seconds,
            seconds=seconds,
            on_progress=on_progress,
        )
        _check_outcome(result)
        try:
            reply: ReadReply | None = receive(io.BytesIO(result.reply), ReadReply)
        except (ValueError, msgspec.ValidationError) as error:
            raise ClusterAway(f"A worker returned something else: {error}") from error
        sizes = [len(part) for part in result.attached]
        if reply is None or sizes != list(getattr(reply, "attached", ())):
            raise ClusterAway("A worker returned only a part of its result.")
        if isinstance(reply, DocumentRead) and reply.reading is None and request.reading is None:
            raise ClusterAway("A worker returned passages without their text.")
        for part in result.attached:
            on_attached(part)
        return reply


class ClusterEmbedder:
    """Embeds passages on the cluster, or with a process of this machine while it is away."""

    at_once = WorkerEmbedder.at_once

    def __init__(
        self, cluster: Cluster, needs: Needs, dimensions: int, local: LocalWorkers
    ) -> None:
        self._cluster = cluster
        self._needs = needs
        self._dimensions = dimensions
        self._local = local

    @property
    def calls(self) -> int:
        """How many calls are made at the same time."""
        return min(2 * self._cluster.workers, self._cluster.tasks) or 1

    def embed_owned(self, texts: Sequence[Owned]) -> Embedded:
        """Return the vectors of texts. Raises WorkerDied."""
        plain = [one.text for one in texts]
        if self._cluster.available:
            with contextlib.suppress(ClusterAway):
                return self._embed(plain)
        if self._cluster.stopping:
            raise WorkerDied("The service stops.")
        with self._local.lent() as worker:
            return Embedded(worker.embed(plain))

    def _embed(self, texts: list[str]) -> Embedded:
        result = self._cluster.run(embed_texts, self._needs, texts, seconds=_EMBED_SECONDS)
        _check_outcome(result)
        data = b"".join(result.attached)
        if len(data) != 4 * len(texts) * self._dimensions:
            raise ClusterAway("A worker returned vectors of another size.")
        vectors = np.frombuffer(data, dtype=np.float32).reshape(len(texts), self._dimensions)
        try:
            check_unit_vectors(vectors)
        except ValueError as error:
            raise ClusterAway(f"A worker returned vectors that are wrong: {error}") from error
        return Embedded(vectors)


def _files(request: ReadDocument) -> dict[str, bytes] | None:
    """Return the bytes of a request's files by its fields; None if they are too large to send."""
    paths = {"path": request.path, "reading": request.reading}
    named = {field: Path(path) for field, path in paths.items() if path is not None}
    if sum(path.stat().st_size for path in named.values()) > _MAX_BYTES:
        return None
    return {field: path.read_bytes() for field, path in named.items()}


def _check_outcome(result: Result) -> None:
    """Raise what a process of this machine would have raised."""
    if result.outcome == "overran":
        raise WorkerOverran(result.reason)
    if result.outcome == "broken":
        raise EmbedderBroken(result.reason)
    if result.outcome != "done":
        raise WorkerDied(result.reason)
