"""Fault points: places where a test can kill the process, to prove recovery."""

from __future__ import annotations

import os
import signal

#: Every point that can be armed through FONTANEL_FAULT=<name>[:<n>], to die at its n-th passing.
POINTS = (
    "blob_stored",
    "segment_written",
    "words_committed",
    "vectors_cached",
    "vectors_committed",
    "merge_written",
)
#: Points outside ingest.
MORE_POINTS = (
    "edition_switching",
    "edition_switched",
    "items_committed",
    "description_written",
    "transcribed",
    "picture_described",
    "message_taken",
    "message_answered",
    "reply_sent",
)

_passed: dict[str, int] = {}


def fault(point: str) -> None:
    """Kill this process, as `kill -9` would, if the point is armed."""
    armed = os.environ.get("FONTANEL_FAULT")
    if not armed:
        return
    name, _, count = armed.partition(":")
    if name == point:
        _passed[point] = _passed.get(point, 0) + 1
        if _passed[point] >= int(count or 1):
            os.kill(os.getpid(), signal.SIGKILL)
