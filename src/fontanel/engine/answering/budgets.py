"""What teams use of models, and their monthly budgets."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.records.tables import Team, Use, now

LOW = 0.8


@dataclass(frozen=True, slots=True)
class Budget:
    """Tokens used since the beginning of the team's calendar month; `most` None means without bound."""

    most: int | None
    used: int
    since: datetime

    @property
    def share(self) -> float | None:
        return None if self.most is None else (self.used / self.most if self.most else 1.0)

    @property
    def state(self) -> str:
        share = self.share
        return (
            "none"
            if share is None
            else "spent"
            if share >= 1
            else "low"
            if share >= LOW
            else "fine"
        )


def budget_of(session: Session, team: Team) -> Budget:
    local = now().astimezone(ZoneInfo(team.time_zone))
    since = local.replace(day=1, hour=0, minute=0, second=0, microsecond=0).astimezone(UTC)
    tokens = func.coalesce(func.sum(Use.tokens_read + Use.tokens_written), 0)
    used = session.scalar(select(tokens).where(Use.team_id == team.id, Use.at >= since)) or 0
    return Budget(team.monthly_tokens, int(used), since)
