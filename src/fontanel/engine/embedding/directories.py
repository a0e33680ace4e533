"""Embedders in directories of the service's machine, each in worker processes of its own."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from pathlib import Path

from fontanel.core.arrays import first_dimensions
from fontanel.engine.ingest.passage_embedders import Embedded, Owned
from fontanel.engine.workers.processes import Worker


class DirectoryWorkers:
    """The worker processes of embedders in directories, started on demand.

    Questions have processes of their own, so that people do not wait behind documents.
    """

    def __init__(self, threads: int) -> None:
        self._threads = threads
        self._lock = threading.Lock()
        self._workers: dict[tuple[Path, bool], Worker] = {}

    def of(self, directory: Path, *, questions: bool = False) -> Worker:
        """Return the worker for a directory."""
        with self._lock:
            key = (directory, questions)
            if key not in self._workers:
                threads = 1 if questions else self._threads
                self._workers[key] = Worker("embed", directory, threads)
            return self._workers[key]

    def end_idle(self, seconds: float) -> None:
        """End processes that were idle for this many seconds."""
        with self._lock:
            workers = list(self._workers.values())
        for worker in workers:
            worker.end_if_idle(seconds)

    def stop(self) -> None:
        """End all processes."""
        with self._lock:
            for worker in self._workers.values():
                worker.stop()


class DirectoryEmbedder:
    """Embeds passages with the model in a directory."""

    at_once, calls = 32, 1

    def __init__(self, worker: Worker, prefix: str, dimensions: int) -> None:
        self._worker = worker
        self._prefix = prefix
        self._dimensions = dimensions

    def embed_owned(self, texts: Sequence[Owned]) -> Embedded:
        """Return the vectors of texts. Raises WorkerDied."""
        vectors = self._worker.embed([self._prefix + one.text for one in texts])
        return Embedded(first_dimensions(vectors, self._dimensions))
