"""Threads of the service.

Thread limits for each kind of work, so that no wait delays the others.

Short look-ups run in as many threads as there are processors. Routes that change something run in
threads of their own, since they may wait for the write lock: waiting changes stop no reads.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import partial
from typing import ParamSpec, TypeVar

from anyio import CapacityLimiter, to_thread
from anyio.lowlevel import RunVar

P = ParamSpec("P")
T = TypeVar("T")

#: Changes that may wait for the write lock at once; further ones wait without a thread.
_MAX_CHANGES = 32

_look_ups: RunVar[CapacityLimiter] = RunVar("look-ups")
_changes: RunVar[CapacityLimiter] = RunVar("changes")


async def run_briefly(function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """Call a function that only reads, in one of a few threads.

    What reads from the records gives up the interpreter at every row; with many threads it is
    passed around for longer than any of them works.
    """
    limiter = _limiter(_look_ups, max(2, os.cpu_count() or 2))
    return await to_thread.run_sync(partial(function, *args, **kwargs), limiter=limiter)


async def run_change(function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """Call a function that may wait for the write lock, in its own threads."""
    limiter = _limiter(_changes, _MAX_CHANGES)
    return await to_thread.run_sync(partial(function, *args, **kwargs), limiter=limiter)


def _limiter(variable: RunVar[CapacityLimiter], threads: int) -> CapacityLimiter:
    try:
        return variable.get()
    except LookupError:
        limiter = CapacityLimiter(threads)
        variable.set(limiter)
        return limiter
