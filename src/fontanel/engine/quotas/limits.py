"""The limits of teams: the defaults, and a team's own, which replace them one by one."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import get_args
from zoneinfo import ZoneInfo

from sqlalchemy.orm import Session

from fontanel.facts import QuotaName
from fontanel.records.tables import DefaultQuotas, Team, now

NAMES: tuple[QuotaName, ...] = get_args(QuotaName)
#: Event streams that a team may have open if nothing else is set.
DEFAULT_STREAMS = 200
_ONLY_ROW = 1
#: The share of a quota or a budget at which a team is warned.
LOW = 0.8

#: Limits by name; None means without limit.
Limits = Mapping[str, int | None]


def share_of(limit: int | None, used: int | None) -> float | None:
    """Return the share of a limit that is used; None without a limit, or if nothing is counted."""
    if limit is None or used is None:
        return None
    return used / limit if limit else 1.0


def default_limits(session: Session) -> dict[str, int | None]:
    """Return the limits of teams without their own."""
    row = session.get(DefaultQuotas, _ONLY_ROW)
    limits: dict[str, int | None] = {"streams": DEFAULT_STREAMS}
    return limits if row is None else limits | row.limits


def set_default_limits(session: Session, limits: Limits) -> None:
    """Replace the limits of teams without their own."""
    row = session.get(DefaultQuotas, _ONLY_ROW)
    if row is None:
        session.add(DefaultQuotas(key=_ONLY_ROW, limits=dict(limits)))
    else:
        row.limits = dict(limits)


def limits_of(session: Session, team: Team) -> dict[str, int | None]:
    """Return all limits of a team by name."""
    limits = default_limits(session) | team.quotas
    return {name: limits.get(name) for name in NAMES}


def month_began(team: Team) -> datetime:
    """Return the beginning of the calendar month in the team's time zone."""
    local = now().astimezone(ZoneInfo(team.time_zone))
    return local.replace(day=1, hour=0, minute=0, second=0, microsecond=0).astimezone(UTC)


def month_ends(team: Team) -> datetime:
    """Return the beginning of the next calendar month in the team's time zone."""
    began = month_began(team).astimezone(ZoneInfo(team.time_zone))
    year, month = (began.year + 1, 1) if began.month == 12 else (began.year, began.month + 1)
    return began.replace(year=year, month=month).astimezone(UTC)
