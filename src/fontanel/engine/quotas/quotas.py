"""How much of its quotas a team uses, and whether there is room for more."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from zoneinfo import ZoneInfo

from sqlalchemy.orm import Session

from fontanel.engine.quotas import used
from fontanel.engine.quotas.limits import (
    LOW,
    NAMES,
    default_limits,
    limits_of,
    month_began,
    month_ends,
    share_of,
)
from fontanel.errors import QuotaReached
from fontanel.facts import QuotaName
from fontanel.records.tables import Team


@dataclass(frozen=True, slots=True)
class Quota:
    """One quota of a team."""

    name: QuotaName
    limit: int | None
    """None means without limit."""
    used: int | None
    """How much is used now; None for a rate, which each key, person and guest has apart."""
    own: bool
    """Whether the limit is the team's own, instead of the default."""

    @property
    def share(self) -> float | None:
        """The share that is used; None without a limit, and for rates."""
        return share_of(self.limit, self.used)

    @property
    def state(self) -> str:
        """`none` without a limit, else `fine`, `low` or `reached`."""
        share = self.share
        if share is None:
            return "none" if self.limit is None else "fine"
        if share >= 1:
            return "reached"
        return "low" if share >= LOW else "fine"


def quotas_of(session: Session, team: Team, streams: int = 0) -> list[Quota]:
    """Return all quotas of a team, with what it uses of them.

    Args:
        streams: How many event streams it has open.
    """
    return quotas_of_all(session, [team], {team.id: streams})[team.id]


def quotas_of_all(
    session: Session, teams: Sequence[Team], streams: Mapping[str, int] | None = None
) -> dict[str, list[Quota]]:
    """Return the quotas of teams by their ids, in few statements however many they are.

    Args:
        streams: How many event streams each has open.
    """
    ids = [team.id for team in teams]
    stored, passages = used.stored(session, ids), used.passages(session, ids)
    questions: dict[str, int] = {}
    tokens: dict[str, int] = {}
    minutes: dict[str, int] = {}
    # A month begins at another time in each time zone.
    for since, group in _by_month(teams).items():
        questions |= used.questions(session, group, since)
        tokens |= used.tokens(session, group, since)
        minutes |= used.recorded_minutes(session, group, since)
    defaults = default_limits(session)
    results: dict[str, list[Quota]] = {}
    for team in teams:
        documents, size = stored.get(team.id, (0, 0))
        counts: dict[str, int | None] = {
            "documents": documents,
            "bytes": size,
            "passages": passages.get(team.id, 0),
            "questions": questions.get(team.id, 0),
            "tokens": tokens.get(team.id, 0),
            "recording_minutes": minutes.get(team.id, 0),
            "streams": (streams or {}).get(team.id, 0),
        }
        limits = defaults | team.quotas
        results[team.id] = [
            Quota(name, limits.get(name), counts.get(name), name in team.quotas) for name in NAMES
        ]
    return results


def _by_month(teams: Sequence[Team]) -> dict[datetime, list[str]]:
    groups: dict[datetime, list[str]] = {}
    for team in teams:
        groups.setdefault(month_began(team), []).append(team.id)
    return groups


@dataclass(slots=True)
class Room:
    """How much more a team may store; None means without limit."""

    limits: Mapping[str, int | None]
    documents: int
    bytes: int

    def take(self, *, documents: int, size: int) -> None:
        """Count documents and bytes that are about to be added.

        Raises:
            QuotaReached: the team may not store them; nothing is counted.
        """
        if documents:
            _check("documents", self.limits["documents"], self.documents + documents, "documents")
        _check("bytes", self.limits["bytes"], self.bytes + size, "bytes")
        self.documents, self.bytes = self.documents + documents, self.bytes + size


def room_of(session: Session, team_id: str) -> Room:
    """Return how much more a team may store; nothing is counted for a team without limits."""
    limits = limits_of(session, session.get_one(Team, team_id))
    if limits["documents"] is None and limits["bytes"] is None:
        return Room(limits, 0, 0)
    return Room(limits, *used.stored(session, [team_id]).get(team_id, (0, 0)))


def check_room(session: Session, team_id: str, *, documents: int, size: int) -> None:
    """Check that a team may store so many more documents and bytes.

    Raises:
        QuotaReached: it may not.
    """
    room_of(session, team_id).take(documents=documents, size=size)


def check_passages(session: Session, team_id: str, more: int) -> None:
    """Check that the active editions of a team may get so many more passages.

    Raises:
        QuotaReached: they may not.
    """
    limit = limits_of(session, session.get_one(Team, team_id))["passages"]
    if limit is not None:
        there = used.passages(session, [team_id]).get(team_id, 0)
        _check("passages", limit, there + more, "passages")


def check_question(session: Session, team_id: str) -> None:
    """Check that a team may ask one more question this month.

    Raises:
        QuotaReached: it may not.
    """
    team = session.get_one(Team, team_id)
    limit = limits_of(session, team)["questions"]
    if limit is None:
        return
    if used.questions(session, [team_id], month_began(team)).get(team_id, 0) >= limit:
        raise QuotaReached(
            "questions",
            f"The team has asked all of its {limit:,} questions of this month. {_next_month(team)}",
        )


def check_recording_minutes(session: Session, team_id: str) -> None:
    """Check that more of a team's recordings may be transcribed this month.

    Raises:
        QuotaReached: no more may be.
    """
    team = session.get_one(Team, team_id)
    limit = limits_of(session, team)["recording_minutes"]
    if limit is None:
        return
    if used.recorded_minutes(session, [team_id], month_began(team)).get(team_id, 0) >= limit:
        raise QuotaReached(
            "recording_minutes",
            f"The team has used all minutes of recordings of this month ({limit:,})."
            f" {_next_month(team)}",
        )


def _next_month(team: Team) -> str:
    ends = month_ends(team).astimezone(ZoneInfo(team.time_zone))
    return f"The next month begins on {ends:%d %B %Y}."


def _check(name: QuotaName, limit: int | None, needed: int, unit: str) -> None:
    if limit is not None and needed > limit:
        raise QuotaReached(
            name, f"The team's quota of {limit:,} {unit} is used up; nothing was added."
        )
