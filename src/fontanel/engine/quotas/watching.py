"""Warnings about quotas: a notice at 80 %, and one when a quota is used up."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.notices.notify import notify_team
from fontanel.engine.quotas.limits import default_limits
from fontanel.engine.quotas.quotas import Quota, quotas_of, quotas_of_all
from fontanel.facts import NoticeKind
from fontanel.records.tables import Team
from fontanel.records.unit_of_work import Records

#: Below this share a quota counts as fine again, so that one at the edge warns only once.
_FINE_AGAIN = 0.75
#: What owners are warned of. Tokens have their budget, and streams come and go.
_WATCHED = frozenset({"documents", "bytes", "passages", "questions", "recording_minutes"})
_OF_THIS_MONTH = {
    "questions": "questions of this month",
    "recording_minutes": "minutes of recordings of this month",
}
_RANK = {"fine": 0, "low": 1, "reached": 2}


def watch_quotas(records: Records) -> None:
    """Notify the teams whose quotas have become low, or are used up, since the last call."""
    with records.reading() as session:
        defaults = default_limits(session)
        limited = any(defaults.get(name) is not None for name in _WATCHED)
        teams = [
            team
            for team in session.scalars(select(Team))
            if limited or team.quotas or team.quota_states
        ]
        quotas = quotas_of_all(session, teams)
        changed = [team.id for team in teams if _states(team, quotas[team.id]) != team.quota_states]
    for team_id in changed:
        with records.writing() as session:
            team = session.get(Team, team_id)
            if team is not None:
                _warn(session, team)


def _states(team: Team, quotas: Sequence[Quota]) -> dict[str, str]:
    """Return the quotas that are low or used up, by name."""
    states: dict[str, str] = {}
    for quota in quotas:
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
    found = quotas_of(session, team)
    states, before = _states(team, found), team.quota_states
    quotas: dict[str, Quota] = {quota.name: quota for quota in found}
    for name, state in states.items():
        if _RANK[state] > _RANK[before.get(name, "fine")]:
            quota = quotas[name]
            kind: NoticeKind = "quota.reached" if state == "reached" else "quota.low"
            data = {"quota": name, "used": quota.used, "limit": quota.limit}
            notify_team(session, team.id, kind, _message(quota), data)
    team.quota_states = states


def _message(quota: Quota) -> str:
    noun = _OF_THIS_MONTH.get(quota.name, quota.name)
    if quota.state == "reached":
        return f"The team has used up its {quota.limit:,} {noun}."
    return f"The team has used {quota.share:.0%} of its {quota.limit:,} {noun}."
