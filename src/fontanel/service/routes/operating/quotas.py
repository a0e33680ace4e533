"""Quotas: a team's for its members, all teams' for operators."""

from __future__ import annotations

from collections.abc import Sequence

from fastapi import Request
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.quotas.limits import NAMES, default_limits, set_default_limits
from fontanel.engine.quotas.quotas import Quota, quotas_of, quotas_of_all
from fontanel.errors import NotFound
from fontanel.facts import QuotaName
from fontanel.records.tables import Team
from fontanel.schemas import AllQuotas, QuotaOut, QuotasIn, TeamQuotas
from fontanel.schemas.quotas import Period
from fontanel.service.auth.access import Operator, Reader, RuntimeDep
from fontanel.service.routers import api_router
from fontanel.service.streaming.renewal import OpenStreams

router = api_router(tag="quotas")

_PER: dict[QuotaName, Period] = {
    "documents": "total",
    "bytes": "total",
    "passages": "total",
    "questions": "month",
    "tokens": "month",
    "recording_minutes": "month",
    "streams": "now",
    "requests_per_minute": "minute",
    "questions_per_minute": "minute",
}


@router.get("/teams/{team}/quotas", summary="Show a team's quotas")
def show_quotas(access: Reader, request: Request) -> TeamQuotas:
    """What the team may have and use, and how much of it is used."""
    streams: OpenStreams = request.app.state.streams
    quotas = quotas_of(access.session, access.team, streams.of_team(access.team.id))
    return _quotas_out(access.team, quotas)


@router.put("/teams/{team}/quotas", summary="Set a team's quotas")
def set_quotas(
    team: str, body: QuotasIn, caller: Operator, request: Request, runtime: RuntimeDep
) -> TeamQuotas:
    """For operators. What is left out has the default; null means without limit.

    Nothing is deleted when the team has more than that: it may only add no more.
    """
    with runtime.records.writing() as session:
        row = session.scalar(select(Team).where((Team.id == team) | (Team.slug == team)))
        if row is None:
            raise NotFound("team", team)
        row.quotas = body.model_dump(include=body.model_fields_set)
        session.flush()
        streams: OpenStreams = request.app.state.streams
        return _quotas_out(row, quotas_of(session, row, streams.of_team(row.id)))


@router.get("/quotas", summary="Show the quotas of all teams")
def show_all_quotas(caller: Operator, request: Request, runtime: RuntimeDep) -> AllQuotas:
    """For operators: the defaults, and each team's quotas, the fullest first."""
    with runtime.records.reading() as session:
        return _all_quotas(session, request.app.state.streams)


@router.put("/quotas", summary="Set the default quotas")
def set_default_quotas(
    body: QuotasIn, caller: Operator, request: Request, runtime: RuntimeDep
) -> AllQuotas:
    """For operators: the limits of teams without their own. What is left out has no limit."""
    limits = body.model_dump()
    if "streams" not in body.model_fields_set:
        del limits["streams"]
    with runtime.records.writing() as session:
        set_default_limits(session, limits)
        session.flush()
        return _all_quotas(session, request.app.state.streams)


def _all_quotas(session: Session, streams: OpenStreams) -> AllQuotas:
    rows = session.scalars(select(Team).order_by(Team.name)).all()
    quotas = quotas_of_all(session, rows, {team.id: streams.of_team(team.id) for team in rows})
    teams = [_quotas_out(team, quotas[team.id]) for team in rows]
    limits = default_limits(session)
    return AllQuotas(
        defaults=QuotasIn(**{name: limits.get(name) for name in NAMES}),
        teams=sorted(teams, key=lambda one: -max(quota.share or 0.0 for quota in one.quotas)),
    )


def _quotas_out(team: Team, quotas: Sequence[Quota]) -> TeamQuotas:
    shown = [
        QuotaOut(
            name=quota.name,
            limit=quota.limit,
            used=quota.used,
            share=quota.share,
            state=quota.state,
            own=quota.own,
            per=_PER[quota.name],
        )
        for quota in quotas
    ]
    return TeamQuotas(team=team.slug, name=team.name, quotas=shown)
