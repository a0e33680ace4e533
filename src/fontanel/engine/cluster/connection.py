"""The connection to a Dask cluster: made again when it is lost, with a bounded number of tasks."""

from __future__ import annotations

import contextlib
import io
import threading
import time
import uuid
import warnings
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import structlog

from fontanel.engine.cluster.tasks import PROGRESS, Needs, Result, unfit
from fontanel.engine.workers.framing import receive
from fontanel.engine.workers.messages import PagesRead, Splitting
from fontanel.engine.workers.processes import OnProgress

log = structlog.get_logger()

#: Seconds between two looks at the cluster, and that a connection may take.
_LOOK, _CONNECT = 2.0, 5.0
#: Seconds between two looks of a waiting task at whether the cluster is still there.
_WAIT = 0.5
#: Seconds before workers that are not fit are tried again.
_UNFIT = 60.0
#: Seconds that a task may take beyond its own limit: to be sent, to queue, and to be repeated.
_GRACE = 600.0


class ClusterAway(Exception):
    """The cluster cannot do a task now; the message says why."""


class Cluster:
    """A Dask cluster that runs tasks of this service.

    A thread connects, and looks now and then whether there are workers. Tasks of workers that die
    are run on others by Dask itself.
    """

    def __init__(self, address: str, tasks: int, tls: Path | None) -> None:
        self.address = address
        self.tasks = tasks
        #: Why the cluster is not used now; empty while it is.
        self.problem = "It was not connected yet."
        self.workers = 0
        self._tls = tls
        self._client: Any = None
        self._slots = threading.BoundedSemaphore(tasks)
        #: The newest progress of tasks that are waited for, by name.
        self._progress: dict[str, PagesRead | Splitting | None] = {}
        self._unfit_until = 0.0
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._keep, name="cluster", daemon=True)

    def start(self) -> None:
        """Begin to connect."""
        self._thread.start()

    def stop(self) -> None:
        """Close the connection; tasks that wait raise ClusterAway."""
        self._stopping.set()
        self.problem = "The service stops."
        if self._thread.is_alive():
            self._thread.join(timeout=2 * _CONNECT)
        self._close()

    @property
    def stopping(self) -> bool:
        """Whether the service stops."""
        return self._stopping.is_set()

    @property
    def available(self) -> bool:
        """Whether tasks can be sent."""
        return not self.problem

    def run(
        self,
        function: Callable[..., Result],
        *arguments: object,
        seconds: float,
        on_progress: OnProgress | None = None,
    ) -> Result:
        """Run a function on a worker.

        Args:
            function: One of `tasks`.
            arguments: Its arguments; with `on_progress`, the task's name is added to them.
            seconds: The function's own time limit.
            on_progress: Called with each report of progress.

        Raises:
            ClusterAway: it cannot be run there now.
        """
        task = f"fontanel-{uuid.uuid4().hex}"
        if on_progress is not None:
            self._progress[task] = None
            arguments = (*arguments, task)
        try:
            with self._slots:
                end = time.monotonic() + seconds + _GRACE
                result = self._run(function, arguments, task, end, on_progress)
        finally:
            self._progress.pop(task, None)
        if result.outcome == "unfit":
            self._unfit_until = time.monotonic() + _UNFIT
            self._lose(result.reason)
            raise ClusterAway(result.reason)
        return result

    def _run(
        self,
        function: Callable[..., Result],
        arguments: tuple[object, ...],
        task: str,
        end: float,
        on_progress: OnProgress | None,
    ) -> Result:
        client = self._client
        if client is None or not self.available:
            raise ClusterAway(self.problem)
        try:
            future = client.submit(function, *arguments, key=task, pure=False, retries=2)
            with _cancelled(future):
                while True:
                    with contextlib.suppress(TimeoutError):
                        result = future.result(timeout=_WAIT)
                        break
                    progress = self._progress.get(task)
                    if on_progress is not None and progress is not None:
                        self._progress[task] = None
                        on_progress(progress)
                    if not self.available or client is not self._client:
                        raise ClusterAway(self.problem or "The connection was lost.")
                    if time.monotonic() > end:
                        raise ClusterAway("A task took too long.")
        except ClusterAway:
            raise
        except Exception as error:
            # Dask's own errors: the worker was killed too often, the scheduler is gone.
            log.warning("a task of the cluster failed", task=task, error=repr(error)[:500])
            raise ClusterAway(f"{type(error).__name__}: {error}"[:300]) from error
        if not isinstance(result, Result):
            raise ClusterAway(f"A task returned a {type(result).__name__}.")
        return result

    # The connection

    def _keep(self) -> None:
        while not self._stopping.is_set():
            try:
                self._look()
            except Exception as error:
                if not self._stopping.is_set():
                    self._lose(f"{type(error).__name__}: {error}"[:300])
                self._close()
            self._stopping.wait(_LOOK)

    def _look(self) -> None:
        """Connect if needed, and count the workers."""
        if self._client is None:
            self._client = connect(self.address, self._tls)
            self._client.subscribe_topic(PROGRESS, self._note_progress)
        # Not the client's own copy, which stays when the scheduler is gone.
        found = self._client.sync(self._client.scheduler.identity, n_workers=-1)
        self.workers = len(found["workers"])
        if not self.workers:
            self._lose("It has no workers.")
        elif self.problem and time.monotonic() > self._unfit_until:
            self.problem = ""
            log.info(
                "documents are read on the cluster", cluster=self.address, workers=self.workers
            )

    def _note_progress(self, event: Any) -> None:
        """Keep a report of progress for the thread that waits for its task."""
        _, content = event
        if content["task"] in self._progress:
            message = receive(io.BytesIO(content["message"]), PagesRead | Splitting)
            self._progress[content["task"]] = message

    def _lose(self, reason: str) -> None:
        if self.available:
            log.warning(
                "documents are read on this machine, as the cluster cannot be used",
                cluster=self.address,
                reason=reason,
            )
        self.problem = reason

    def _close(self) -> None:
        client, self._client = self._client, None
        if client is not None:
            with contextlib.suppress(Exception):
                client.close(timeout=_CONNECT)


@contextlib.contextmanager
def _cancelled(future: Any) -> Iterator[None]:
    """Cancel a task that nobody waits for any more."""
    try:
        yield
    finally:
        with contextlib.suppress(Exception):
            if not future.done():
                future.cancel()
            future.release()


def connect(address: str, tls: Path | None) -> Any:
    """Return a client of a cluster. Raises OSError."""
    from distributed import Client
    from distributed.security import Security

    # Documents are meant to be sent with their task, so that it can be repeated. Set once: filters
    # belong to the process, and threads that change and restore them undo each other's.
    warnings.filterwarnings("ignore", "Sending large graph", UserWarning)
    security = None
    if tls is not None:
        security = Security(
            require_encryption=True,
            tls_ca_file=str(tls / "ca.pem"),
            tls_client_cert=str(tls / "cert.pem"),
            tls_client_key=str(tls / "key.pem"),
        )
    return Client(
        address, timeout=_CONNECT, set_as_default=False, name="fontanel", security=security
    )


def look_at(address: str, tls: Path | None, needs: Needs) -> tuple[int, list[str]]:
    """Connect to a cluster once.

    Args:
        address: The scheduler's.
        tls: The folder with certificates and the key, for `tls://`.
        needs: What its workers must have.

    Returns:
        The number of workers, and why some of them cannot be used.

    Raises:
        OSError: it cannot be reached.
    """
    client = connect(address, tls)
    try:
        reasons = client.run(unfit, needs)
        return len(reasons), sorted({reason for reason in reasons.values() if reason})
    finally:
        client.close(timeout=_CONNECT)
