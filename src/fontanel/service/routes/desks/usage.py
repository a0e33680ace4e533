"""Usage by day, desk, knowledge base, asker, model or source, also as CSV."""

from __future__ import annotations

import csv
import io
from collections import defaultdict
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from typing import Annotated, Literal
from zoneinfo import ZoneInfo

from fastapi import Query, Response
from sqlalchemy import ColumnElement, select
from sqlalchemy.orm import Session

from fontanel.core.answering import APPROVED, BUILT_IN
from fontanel.core.csv_cells import guarded
from fontanel.engine.answering.background import BACKGROUND
from fontanel.engine.answering.budgets import budget_of
from fontanel.engine.answering.tool_calls import TOOL_CALL
from fontanel.engine.trials.running import ASKER
from fontanel.records.tables import Desk, DeskLink, Kb, Key, Person, Source, Team, Use, now
from fontanel.schemas import BudgetOut, TeamUsage, UsageOut, UsageRow
from fontanel.schemas.base import Moment
from fontanel.service.auth.access import Access, Editor, Operator, RuntimeDep
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/usage", "usage")
all_teams = api_router("/usage", "usage")

By = Literal["day", "desk", "kb", "member", "model", "source"]
#: The key of guests' questions: all guests of a link are one row.
_GUESTS = "guests:"
Since = Annotated[
    Moment | None, Query(description="From this moment on; by default the last thirty days.")
]
Until = Annotated[Moment | None, Query(description="Up to this moment.")]


@router.get("", summary="Show what a team used")
def show_usage(
    access: Editor,
    by: By = "day",
    since: Since = None,
    until: Until = None,
    desk: str | None = None,
) -> UsageOut:
    """Questions, outcomes, feedback, tokens, cost and times; days are the team's own."""
    uses = _uses(access, since, until, desk)
    return UsageOut(
        by=by,
        rows=_rows(access.session, access.team, uses, by),
        total=_row("", "all", uses),
        budget=_budget_out(access.session, access.team),
    )


@router.get("/csv", summary="Download what a team used", response_class=Response)
def usage_csv(
    access: Editor,
    by: By = "day",
    since: Since = None,
    until: Until = None,
    desk: str | None = None,
) -> Response:
    """The same figures as CSV."""
    return _csv(_rows(access.session, access.team, _uses(access, since, until, desk), by), by)


@all_teams.get("", summary="Show what each team used")
def show_all_usage(
    caller: Operator, runtime: RuntimeDep, since: Since = None, until: Until = None
) -> list[TeamUsage]:
    """For operators: the usage and budgets of all teams, the busiest first."""
    with runtime.records.reading() as session:
        return _of_teams(session, since, until)


@all_teams.get("/csv", summary="Download what each team used", response_class=Response)
def all_usage_csv(
    caller: Operator, runtime: RuntimeDep, since: Since = None, until: Until = None
) -> Response:
    """The same figures as CSV."""
    with runtime.records.reading() as session:
        return _csv([team.used for team in _of_teams(session, since, until)], "team")


def _of_teams(session: Session, since: datetime | None, until: datetime | None) -> list[TeamUsage]:
    groups: dict[str, list[Use]] = defaultdict(list)
    for use in session.scalars(select(Use).where(*_within(since, until))):
        groups[use.team_id].append(use)
    teams = session.scalars(select(Team).order_by(Team.name)).all()
    results = [
        TeamUsage(
            used=_row(team.slug, team.name, groups[team.id]), budget=_budget_out(session, team)
        )
        for team in teams
    ]
    return sorted(results, key=lambda team: -team.used.questions)


def _csv(rows: Sequence[UsageRow], by: str) -> Response:
    out = io.StringIO()
    writer = csv.writer(out)
    names = list(UsageRow.model_fields)
    writer.writerow(names)
    writer.writerows([guarded(getattr(row, name)) for name in names] for row in rows)
    headers = {"Content-Disposition": f'attachment; filename="usage-by-{by}.csv"'}
    return Response(out.getvalue(), media_type="text/csv; charset=utf-8", headers=headers)


def _budget_out(session: Session, team: Team) -> BudgetOut:
    budget = budget_of(session, team)
    return BudgetOut(
        monthly_tokens=team.monthly_tokens,
        limit=budget.limit,
        used=budget.used,
        share=budget.share,
        state=budget.state,
        since=budget.since,
    )


def _within(since: datetime | None, until: datetime | None) -> list[ColumnElement[bool]]:
    conditions = [Use.at >= (since or now() - timedelta(days=30))]
    return conditions if until is None else [*conditions, Use.at < until]


def _uses(
    access: Access, since: datetime | None, until: datetime | None, desk: str | None
) -> Sequence[Use]:
    query = access.scope.select(Use).where(*_within(since, until))
    if desk is not None:
        query = query.where(Use.desk_id == access.scope.desk(desk).id)
    uses = access.session.scalars(query.order_by(Use.at)).all()
    allowed = access.scope.kb_ids
    return uses if allowed is None else [use for use in uses if set(use.kb_ids) <= allowed]


def _rows(session: Session, team: Team, uses: Sequence[Use], by: By) -> list[UsageRow]:
    groups: dict[str, list[Use]] = defaultdict(list)
    zone = ZoneInfo(team.time_zone)
    for use in uses:
        groups[_key(use, by, zone)].append(use)
    names = _names(session, groups, by)
    rows = [_row(key, names.get(key, key), group) for key, group in groups.items()]
    return (
        sorted(rows, key=lambda row: row.key)
        if by == "day"
        else sorted(rows, key=lambda row: -row.questions)
    )


def _key(use: Use, by: By, zone: ZoneInfo) -> str:
    """Return the one row that a question counts in, so that the rows add up to the total."""
    if by == "day":
        return use.at.astimezone(zone).date().isoformat()
    if by == "desk":
        return use.desk_id or ""
    if by == "kb":
        return use.kb_id or ""
    if by == "source":
        return use.source_id or ""
    if by == "model":
        if use.composer == APPROVED:
            return APPROVED
        return use.model or BUILT_IN
    if use.asker.startswith(ASKER):
        return ASKER
    return f"{_GUESTS}{use.link_id or ''}" if use.asker.startswith("guest:") else use.asker


def _names(session: Session, keys: Iterable[str], by: By) -> dict[str, str]:
    """Return the names of what was counted."""
    requested = list(keys)
    if by == "desk":
        result = session.execute(select(Desk.id, Desk.name).where(Desk.id.in_(requested))).all()
        return {"": "knowledge bases directly", **dict(result)}
    if by == "kb":
        result = session.execute(select(Kb.id, Kb.name).where(Kb.id.in_(requested))).all()
        return {"": "no documents needed", **dict(result)}
    if by == "source":
        result = session.execute(
            select(Source.id, Source.name).where(Source.id.in_(requested))
        ).all()
        return {"": "questions, and documents without a source", **dict(result)}
    if by == "model":
        return {APPROVED: "approved answers"}
    if by != "member":
        return {}
    names = {
        f"person:{key}": name
        for key, name in session.execute(select(Person.id, Person.name))
        if f"person:{key}" in requested
    }
    names |= {
        f"key:{key}": f"key {name}"
        for key, name in session.execute(select(Key.id, Key.name))
        if f"key:{key}" in requested
    }
    names |= BACKGROUND
    names[ASKER] = "trials"
    names[_GUESTS] = "guests"
    return names | {
        _GUESTS + key: f"guests of {name}"
        for key, name in session.execute(select(DeskLink.id, DeskLink.name))
        if _GUESTS + key in requested
    }


def _row(key: str, name: str, uses: Sequence[Use]) -> UsageRow:
    # What models do in the background, and trials, count for tokens and cost.
    asked = [
        use
        for use in uses
        if use.outcome not in (*BACKGROUND, TOOL_CALL) and not use.asker.startswith(ASKER)
    ]
    seconds = sorted(use.seconds for use in asked)
    return UsageRow(
        key=key,
        name=name,
        questions=len(seconds),
        tool_calls=sum(use.outcome == TOOL_CALL for use in uses),
        answered=sum(use.outcome in ("answered", "small_talk") for use in asked),
        approved=sum(use.composer == APPROVED for use in asked),
        declined=sum(use.outcome == "declined" for use in asked),
        unfinished=sum(use.outcome == "unfinished" for use in asked),
        helpful=sum(use.helpful is True for use in asked),
        not_helpful=sum(use.helpful is False for use in asked),
        tokens_read=sum(use.tokens_read for use in uses),
        tokens_written=sum(use.tokens_written for use in uses),
        cost=round(sum(use.cost for use in uses), 6),
        median_seconds=seconds[len(seconds) // 2] if seconds else None,
        p95_seconds=seconds[min(len(seconds) - 1, int(0.95 * len(seconds)))] if seconds else None,
    )
