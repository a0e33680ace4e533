"""Open streams: their limits, and renewal of their access."""

from __future__ import annotations

import threading
from collections import Counter

from fastapi import Request
from sqlalchemy.orm import Session

from fontanel.errors import NotFound
from fontanel.records.tables import Role, now
from fontanel.service.auth.access import Access, Require, credentials_of, find_caller
from fontanel.service.problems import ApiError

#: Streams that one caller may have open.
MAX_PER_CALLER = 20


class Place:
    """One open stream, counted until `leave`."""

    def __init__(self, streams: OpenStreams, caller: str, team: str) -> None:
        self._streams = streams
        self._names = (caller, team)
        self._left = False

    def leave(self) -> None:
        if not self._left:
            self._left = True
            self._streams._release(self._names)

    # A response that is never sent has no end at which it could leave.
    __del__ = leave


class OpenStreams:
    """Counts the open streams of each caller and each team."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._open: Counter[str] = Counter()

    def enter(self, caller: str, team: str, max_of_team: int | None) -> Place:
        """Count one more stream. Raises ApiError(too-many-streams)."""
        with self._lock:
            for name, limit, whose in (
                (caller, MAX_PER_CALLER, "You have"),
                (team, max_of_team, "The team has"),
            ):
                if limit is not None and self._open[name] >= limit:
                    raise ApiError(
                        "too-many-streams",
                        f"{whose} {limit} event streams open, which is the maximum.",
                        advice="Close some of them, for instance by closing tabs of the console.",
                        headers={"Retry-After": "10"},
                    )
            self._open.update((caller, team))
        return Place(self, caller, team)

    def of_team(self, team: str) -> int:
        """Return how many a team has open."""
        with self._lock:
            return self._open[team]

    def _release(self, names: tuple[str, str]) -> None:
        with self._lock:
            self._open.subtract(names)
            for name in names:
                if self._open[name] <= 0:
                    del self._open[name]


class Renewal:
    """A reader's access, looked up again with a stream's credentials."""

    def __init__(self, request: Request, access: Access, place: Place | None = None) -> None:
        self.access = access
        self._place = place
        self._request = request
        self._credentials = credentials_of(request)

    def renewed(self, session: Session) -> Access | None:
        """Return the access in this session; None once the caller has lost it."""
        runtime = self.access.runtime
        try:
            caller = find_caller(session, self._request, runtime, self._credentials)
            require = Require(Role.READER)
            access = require.access_in(session, self._request, self.access.team.id, caller, runtime)
        except (ApiError, NotFound):
            return None
        return access.within(session)

    def still_allowed(self) -> bool:
        """Return whether the caller still has access."""
        with self.access.runtime.records.reading() as session:
            return self.renewed(session) is not None

    def seconds(self, limit: float) -> float:
        """Return the seconds until the key or sign-in expires, at most `limit`."""
        expires = self.access.caller.expires_at
        if expires is None:
            return limit
        return min(limit, max(0.0, (expires - now()).total_seconds()) + 0.05)

    def leave(self) -> None:
        """Free the stream's place."""
        if self._place is not None:
            self._place.leave()
