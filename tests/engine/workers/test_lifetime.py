"""Worker processes end with the process that started them, even when it is killed."""

from __future__ import annotations

import os
import select
import signal
import subprocess
import sys
from pathlib import Path

import pytest

#: Starts a worker that waits for its request, and prints its process id.
_START = """
import subprocess, sys
from fontanel.engine.workers.processes import start_process
worker = start_process(sys.argv[1:], stderr=subprocess.DEVNULL)
print(worker.pid, flush=True)
sys.stdin.read()
"""
_MODULES = "fontanel.engine.workers"


@pytest.mark.parametrize(
    "command",
    [[f"{_MODULES}.merger"], [f"{_MODULES}.child", "read", "none", "2048"]],
    ids=["merger", "reader"],
)
def test_a_worker_dies_with_its_parent(command: list[str], tmp_path: Path) -> None:
    parent = subprocess.Popen(
        [sys.executable, "-c", _START, sys.executable, "-m", *command],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert parent.stdout is not None
    worker = os.pidfd_open(int(parent.stdout.readline()))
    try:
        ended = select.poll()
        ended.register(worker, select.POLLIN)
        assert not ended.poll(0), "the worker ended before its parent was killed"
        parent.send_signal(signal.SIGKILL)
        assert ended.poll(30_000), "the worker outlived its parent"
    finally:
        os.close(worker)
        parent.kill()
        parent.communicate()
