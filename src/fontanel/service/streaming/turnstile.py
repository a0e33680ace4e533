"""Short work done by few threads at a time."""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import partial
from typing import ParamSpec, TypeVar

from anyio import CapacityLimiter, to_thread
from anyio.lowlevel import RunVar

P = ParamSpec("P")
T = TypeVar("T")

_limiter: RunVar[CapacityLimiter] = RunVar("turnstile")


async def in_turn(function: Callable[P, T], *arguments: P.args, **named: P.kwargs) -> T:
    """Call a function in a thread, no more of them at once than there are processors.

    What reads from the records lets the interpreter go at every row; with many threads at once it is handed around for longer than
    any of them works.
    """
    try:
        limiter = _limiter.get()
    except LookupError:
        limiter = CapacityLimiter(max(2, os.cpu_count() or 2))
        _limiter.set(limiter)
    return await to_thread.run_sync(partial(function, *arguments, **named), limiter=limiter)
