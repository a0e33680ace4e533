"""Warnings about quotas: a notice at 80 %, and one when a quota is used up."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.notices.notify import notify_team
from fontanel.engine.quotas.limits import default_limits
from fontanel.engine.quotas.quotas import Quota, quotas_of
from fontanel.facts import NoticeKind
from fontanel.records.tables import Team
from fontanel.records.unit_of_work import Records

#: Below this share a quota counts as fine again, so that one at the edge warns only once.
_FINE_AGAIN = 0.75
#: What owners are warned of. Tokens have their budget, and streams come and go.
_WATCHED = frozenset({"documents", "bytes", "passages", "questions"})
_RANK = {"fine": 0, "low": 1, "reached": 2}


def watch_quotas(records: Records) -> None:
    """Notify the teams whose quotas have become low, or are used up, since the last call."""
    with records.reading() as session:
        defaults = default_limits(session)
        limited = any(defaults.get(name) is not None for name in _WATCHED)
        teams = session.scalars(select(Team)).all()
        changed = {
            team.id: states
            for team in teams
            if (limited or team.quotas or team.quota_states)
            and (states := _states(session, team)) != team.quota_states
        }
    for team_id in changed:
        with records.writing() as session:
            team = session.get(Team, team_id)
            if team is not None:
                _warn(session, team)


def _states(session: Session, team: Team) -> dict[str, str]:
    """Return the quotas that are low or used up, by name."""
    states: dict[str, str] = {}
    for quota in quotas_of(session, team):
        if quota.name not in _WATCHED or quota.limit is None:
            continue
        before = team.quota_states.get(quota.name, "fine")
        state = quota.state
        if _RANK[state] < _RANK[before] and (quota.share or 0) >= _FINE_AGAIN:
            state = before
        if state != "fine":
            states[quota.name] = state
    return states


def _warn(session: Session, team: Team) -> None:
    states, before = _states(session, team), team.quota_states
    quotas: dict[str, Quota] = {quota.name: quota for quota in quotas_of(session, team)}
    for name, state in states.items():
        if _RANK[state] > _RANK[before.get(name, "fine")]:
            quota = quotas[name]
            kind: NoticeKind = "quota.reached" if state == "reached" else "quota.low"
            data = {"quota": name, "used": quota.used, "limit": quota.limit}
            notify_team(session, team.id, kind, _message(quota), data)
    team.quota_states = states


def _message(quota: Quota) -> str:
    period = " of this month" if quota.name == "questions" else ""
    if quota.state == "reached":
        return f"The team has used up its {quota.limit:,} {quota.name}{period}."
    return f"The team has used {quota.share:.0%} of its {quota.limit:,} {quota.name}{period}."
