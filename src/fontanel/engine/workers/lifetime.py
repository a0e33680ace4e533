"""The lifetime of worker processes: they end with the service."""

from __future__ import annotations

import ctypes
import os
import signal
import sys

#: Of prctl(2).
_PR_SET_PDEATHSIG = 1

#: How much lower than the service's the priority of a worker is.
NICE = 5


def die_with_parent() -> None:
    """Ask the kernel to kill this process when its parent ends (Linux)."""
    if sys.platform == "linux":
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
        if os.getppid() == 1:
            sys.exit(1)
