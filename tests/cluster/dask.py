"""A Dask cluster of real processes, whose parts can be killed."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from tests.conftest import EMBEDDER, free_port, until


@dataclass
class Dask:
    """A scheduler, and workers by their names with one thread each; `tls` has their certificate."""

    folder: Path
    tls: Path | None = None
    port: int = field(default_factory=free_port)
    scheduler: subprocess.Popen[bytes] | None = None
    workers: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)

    @property
    def address(self) -> str:
        return f"{'tls' if self.tls else 'tcp'}://127.0.0.1:{self.port}"

    def start(self) -> None:
        """Start the scheduler, and wait until it listens."""
        options = ["--host", "127.0.0.1", "--port", str(self.port), "--no-dashboard"]
        options += self._certificates()
        self.scheduler = self._run("dask_scheduler", options, {})
        until(self._listens)

    def add_worker(self, name: str, environment: Mapping[str, str] | None = None) -> None:
        """Start a worker, which connects in its own time."""
        options = [self.address, "--nthreads", "1", "--no-dashboard", "--no-nanny", "--name", name]
        options += self._certificates()
        models = {"FONTANEL_EMBEDDER": str(EMBEDDER)}
        self.workers[name] = self._run("dask_worker", options, {**models, **(environment or {})})

    def kill_worker(self, name: str) -> None:
        """`kill -9` a worker."""
        process = self.workers.pop(name)
        process.kill()
        process.wait()

    def kill_scheduler(self) -> None:
        """`kill -9` the scheduler; its workers end, since they look for it."""
        assert self.scheduler is not None
        self.scheduler.kill()
        self.scheduler.wait()
        self.scheduler = None

    def stop(self) -> None:
        for name in list(self.workers):
            self.kill_worker(name)
        if self.scheduler is not None:
            self.kill_scheduler()

    def _run(
        self, program: str, options: list[str], environment: dict[str, str]
    ) -> subprocess.Popen[bytes]:
        return subprocess.Popen(
            [sys.executable, "-m", f"distributed.cli.{program}", *options],
            cwd=self.folder,
            env={**os.environ, **environment},
            stdout=subprocess.DEVNULL,
            stderr=(self.folder / f"{program}.log").open("ab"),
        )

    def _certificates(self) -> list[str]:
        if self.tls is None:
            return []
        ca, certificate, key = (str(self.tls / f"{name}.pem") for name in ("ca", "cert", "key"))
        return ["--tls-ca-file", ca, "--tls-cert", certificate, "--tls-key", key]

    def _listens(self) -> bool:
        with socket.socket() as probe:
            return probe.connect_ex(("127.0.0.1", self.port)) == 0
