"""How much of its quotas a team uses, and whether there is room for more.

What is stored is counted by triggers of the database, so that a check costs the same whatever a
team has.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from zoneinfo import ZoneInfo

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.answering.background import BACKGROUND, TRANSCRIBED
from fontanel.engine.answering.budgets import tokens_and_cost
from fontanel.engine.answering.tool_calls import TOOL_CALL
from fontanel.engine.gaps.collecting import TRIAL
from fontanel.engine.quotas.limits import LOW, NAMES, limits_of, month_began, month_ends, share_of
from fontanel.errors import QuotaReached
from fontanel.facts import QuotaName
from fontanel.records.tables import (
    Kb,
    PassageCounts,
    Team,
    TeamCounts,
    Turn,
    TurnState,
    Use,
)


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


def stored(session: Session, team_id: str) -> tuple[int, int]:
    """Return how many documents a team has, and the bytes of all their revisions."""
    query = select(TeamCounts.documents, TeamCounts.bytes).where(TeamCounts.team_id == team_id)
    row = session.execute(query).one_or_none()
    return (0, 0) if row is None else (row[0], row[1])


def passages_of(session: Session, team_id: str) -> int:
    """Return how many passages the active editions of a team have."""
    active = select(Kb.edition_id).where(Kb.team_id == team_id)
    total = select(func.coalesce(func.sum(PassageCounts.passages), 0))
    return session.scalar(total.where(PassageCounts.edition_id.in_(active))) or 0


def questions_of(session: Session, team: Team) -> int:
    """Return how many questions the team asked this month; trials do not count."""
    asked = select(func.count()).where(
        Use.team_id == team.id,
        Use.at >= month_began(team),
        Use.outcome.not_in((*BACKGROUND, TOOL_CALL)),
        Use.asker.not_like(f"{TRIAL}%"),
    )
    being_answered = select(func.count()).where(
        Turn.team_id == team.id,
        Turn.state == TurnState.ANSWERING,
        Turn.asker.not_like(f"{TRIAL}%"),
    )
    return (session.scalar(asked) or 0) + (session.scalar(being_answered) or 0)


def tokens_of(session: Session, team: Team) -> int:
    """Return the tokens of models that the team used this month."""
    return tokens_and_cost(session, Use.team_id == team.id, Use.at >= month_began(team))[0]


def recorded_minutes_of(session: Session, team: Team) -> int:
    """Return the whole minutes of recordings that were transcribed this month."""
    seconds = select(func.coalesce(func.sum(Use.recorded_seconds), 0.0)).where(
        Use.team_id == team.id, Use.at >= month_began(team), Use.outcome == TRANSCRIBED
    )
    return int((session.scalar(seconds) or 0.0) // 60)


def quotas_of(session: Session, team: Team, streams: int = 0) -> list[Quota]:
    """Return all quotas of a team, with what it uses of them.

    Args:
        streams: How many event streams it has open.
    """
    limits = limits_of(session, team)
    documents, size = stored(session, team.id)
    used: dict[str, int | None] = {
        "documents": documents,
        "bytes": size,
        "passages": passages_of(session, team.id),
        "questions": questions_of(session, team),
        "tokens": tokens_of(session, team),
        "recording_minutes": recorded_minutes_of(session, team),
        "streams": streams,
    }
    return [Quota(name, limits[name], used.get(name), name in team.quotas) for name in NAMES]


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
    unlimited = limits["documents"] is None and limits["bytes"] is None
    return Room(limits, *((0, 0) if unlimited else stored(session, team_id)))


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
        _check("passages", limit, passages_of(session, team_id) + more, "passages")


def check_question(session: Session, team_id: str) -> None:
    """Check that a team may ask one more question this month.

    Raises:
        QuotaReached: it may not.
    """
    team = session.get_one(Team, team_id)
    limit = limits_of(session, team)["questions"]
    if limit is not None and questions_of(session, team) >= limit:
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
    if limit is not None and recorded_minutes_of(session, team) >= limit:
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
