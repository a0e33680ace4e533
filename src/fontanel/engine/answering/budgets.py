"""Monthly budgets of teams for tokens of models."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session

from fontanel.engine.quotas.limits import LOW, limits_of, month_began, share_of
from fontanel.records.tables import Team, Use


@dataclass(frozen=True, slots=True)
class Budget:
    """Tokens used since the beginning of the team's calendar month."""

    limit: int | None
    """The team's own budget or its quota, whichever is lower; None means without limit."""
    by_quota: bool
    """Whether the limit is the quota, which only an operator raises."""
    used: int
    since: datetime

    @property
    def share(self) -> float | None:
        """The share of the budget that is used; None without a limit."""
        return share_of(self.limit, self.used)

    @property
    def state(self) -> str:
        """`none` without a limit, else `fine`, `low` or `spent`."""
        share = self.share
        if share is None:
            return "none"
        if share >= 1:
            return "spent"
        return "low" if share >= LOW else "fine"


def budget_of(session: Session, team: Team) -> Budget:
    """Return a team's budget of this month, in its own time zone."""
    since = month_began(team)
    used, _ = tokens_and_cost(session, Use.team_id == team.id, Use.at >= since)
    quota, own = limits_of(session, team)["tokens"], team.monthly_tokens
    by_quota = quota is not None and (own is None or quota < own)
    return Budget(quota if by_quota else own, by_quota, used, since)


def tokens_and_cost(session: Session, *conditions: ColumnElement[bool]) -> tuple[int, float]:
    """Return the tokens and the cost of some uses."""
    tokens, cost = session.execute(
        select(
            func.coalesce(func.sum(Use.tokens_read + Use.tokens_written), 0),
            func.coalesce(func.sum(Use.cost), 0.0),
        ).where(*conditions)
    ).one()
    return int(tokens), float(cost)
