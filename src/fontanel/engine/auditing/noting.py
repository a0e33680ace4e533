"""Entries for what changes nothing: refusals, and reading what belongs to others.

Nobody waits for these: they are written in the background. The same refusal many times in a minute
is one entry with a count, and opening the same record again within ten minutes is not repeated, so
that a page that refreshes, or somebody who guesses, cannot fill the log.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from copy import copy
from dataclasses import dataclass

from fontanel.records.audit import Acting, write_entry
from fontanel.records.unit_of_work import Records

#: Seconds within which the same refusal is counted, and the same reading not repeated.
_REFUSALS_WINDOW, _READS_WINDOW = 60.0, 600.0
#: What is remembered at a time; refusals beyond are counted together.
_MAX_REMEMBERED = 10_000


@dataclass(slots=True)
class _Refused:
    acting: Acting
    problem: str
    since: float
    count: int = 0
    """Repetitions that are not written yet."""


class AuditNotes:
    """Notes refusals and readings.

    Args:
        records: The records with the log.
        later: Runs a function in the background.
        clock: The time in seconds, monotonic.
    """

    def __init__(
        self,
        records: Records,
        later: Callable[[Callable[[], None]], None],
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._records = records
        self._later = later
        self._clock = clock
        self._lock = threading.Lock()
        self._refused: dict[tuple[str, ...], _Refused] = {}
        self._read: dict[tuple[str, ...], float] = {}

    def refused(self, acting: Acting, problem: str) -> None:
        """Note that somebody was refused something."""
        who = acting.id or acting.address
        key = (acting.team_id or "", who, acting.action, acting.about, problem)
        with self._lock:
            if key not in self._refused and len(self._refused) >= _MAX_REMEMBERED:
                key = (acting.team_id or "", "", "", "", problem)
                acting = Acting("many", team_id=acting.team_id)
            earlier = self._refused.get(key)
            if earlier is not None and self._clock() - earlier.since < _REFUSALS_WINDOW:
                earlier.count += 1
                return
            count = 1 + (earlier.count if earlier is not None else 0)
            self._refused[key] = _Refused(copy(acting), problem, self._clock())
        self._later(lambda: self._write_refusal(acting, problem, count))

    def read(self, acting: Acting) -> None:
        """Note that somebody read what belongs to others, or took much out."""
        moment = self._clock()
        key = (acting.team_id or "", acting.id, acting.action, acting.target)
        with self._lock:
            if moment - self._read.get(key, -_READS_WINDOW) < _READS_WINDOW:
                return
            if len(self._read) >= _MAX_REMEMBERED:
                self._read.clear()
            self._read[key] = moment
        noted = copy(acting)
        self._later(lambda: self._write(noted))

    def flush(self) -> None:
        """Write the counts of refusals whose minute is over."""
        moment = self._clock()
        with self._lock:
            over = [k for k, r in self._refused.items() if moment - r.since >= _REFUSALS_WINDOW]
            ended = [self._refused.pop(key) for key in over]
        for one in ended:
            if one.count:
                self._write_refusal(one.acting, one.problem, one.count)

    def _write_refusal(self, acting: Acting, problem: str, count: int) -> None:
        with self._records.auditing() as session:
            write_entry(session, acting, [], outcome="refused", problem=problem, count=count)

    def _write(self, acting: Acting) -> None:
        with self._records.auditing() as session:
            write_entry(session, acting, [])
