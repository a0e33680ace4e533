"""The audit log: of a team for its owners, of everything for operators."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

from fastapi import Depends, Query
from fastapi.responses import StreamingResponse
from sqlalchemy import select

from fontanel.engine.runtime.runtime import Runtime
from fontanel.errors import NotFound
from fontanel.records.audit import SERVICE_LOG
from fontanel.records.tables import AuditEntry, AuditLog, Team
from fontanel.schemas import AuditCheckOut, AuditEntryOut, AuditOutcome, Page
from fontanel.schemas.base import Moment
from fontanel.service.auth.access import Operator, Owner, RuntimeDep
from fontanel.service.out.audit import (
    AuditSelection,
    audit_logs,
    check_log,
    entry_out,
    exported_entries,
)
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/audit", "audit")
all_logs = api_router("/audit", "audit")

Form = Literal["jsonl", "csv"]
Cursor = Annotated[int | None, Query(ge=1, le=2**62, description="The `next` of the page before.")]
Limit = Annotated[int, Query(ge=1, le=200)]
Text = Annotated[str | None, Query(max_length=200)]


async def _filters(
    actor: Annotated[Text, Query(description="An id, or a part of a name.")] = None,
    action: Annotated[Text, Query(description="An action, or its beginning: `key.`")] = None,
    target: Annotated[Text, Query(description="A part of the target.")] = None,
    outcome: AuditOutcome | None = None,
    since: Annotated[Moment | None, Query(description="From this moment on.")] = None,
    until: Annotated[Moment | None, Query(description="Up to this moment.")] = None,
) -> AuditSelection:
    return AuditSelection(None, actor, action, target, outcome, since, until)


Filters = Annotated[AuditSelection, Depends(_filters)]


def _page(
    runtime: Runtime, selection: AuditSelection, cursor: int | None, limit: int
) -> Page[AuditEntryOut]:
    query = selection.query().order_by(AuditEntry.key.desc()).limit(limit + 1)
    if cursor is not None:
        query = query.where(AuditEntry.key < cursor)
    with runtime.records.reading() as session:
        entries = session.scalars(query).all()
    items = [entry_out(entry) for entry in entries[:limit]]
    return Page(items=items, next=str(items[-1].id) if len(entries) > limit else None)


def _export(runtime: Runtime, selection: AuditSelection, form: Form) -> StreamingResponse:
    media = "application/jsonl" if form == "jsonl" else "text/csv; charset=utf-8"
    headers = {"Content-Disposition": f'attachment; filename="audit.{form}"'}
    lines = exported_entries(runtime.records, selection, form)
    return StreamingResponse(lines, media_type=media, headers=headers)


def _check(runtime: Runtime, log: str | None) -> list[AuditCheckOut]:
    with runtime.records.reading() as session:
        logs = audit_logs(session, log)
    return [check_log(runtime.records, one, name) for one, name in logs]


@router.get("", summary="List what was done in a team")
def list_team_entries(
    access: Owner, filters: Filters, cursor: Cursor = None, limit: Limit = 50
) -> Page[AuditEntryOut]:
    """The newest first. For owners."""
    return _page(access.runtime, replace(filters, log=access.team.id), cursor, limit)


@router.get("/export", summary="Export a team's audit log", response_class=StreamingResponse)
def export_team_entries(access: Owner, filters: Filters, form: Form = "jsonl") -> StreamingResponse:
    """The oldest first, as JSON Lines that `fontanel audit verify` checks, or as CSV."""
    access.release()
    return _export(access.runtime, replace(filters, log=access.team.id), form)


@router.get("/verify", summary="Verify a team's audit log")
def verify_team_log(access: Owner) -> list[AuditCheckOut]:
    """Compute the hashes of all entries again. For owners."""
    access.release()
    return _check(access.runtime, access.team.id)


@all_logs.get("", summary="List what was done in all teams")
def list_entries(
    caller: Operator,
    runtime: RuntimeDep,
    filters: Filters,
    log: Annotated[Text, Query(description="A team's id or slug, or `service`.")] = None,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Page[AuditEntryOut]:
    """The newest first. For operators."""
    return _page(runtime, replace(filters, log=_log_of(runtime, log)), cursor, limit)


@all_logs.get("/export", summary="Export the audit log", response_class=StreamingResponse)
def export_entries(
    caller: Operator,
    runtime: RuntimeDep,
    filters: Filters,
    log: Annotated[Text, Query(description="A team's id or slug, or `service`.")] = None,
    form: Form = "jsonl",
) -> StreamingResponse:
    """The oldest first, as JSON Lines or CSV. For operators."""
    return _export(runtime, replace(filters, log=_log_of(runtime, log)), form)


@all_logs.get("/verify", summary="Verify all audit logs")
def verify_logs(caller: Operator, runtime: RuntimeDep) -> list[AuditCheckOut]:
    """Compute the hashes of all entries again. For operators."""
    return _check(runtime, None)


def _log_of(runtime: Runtime, ref: str | None) -> str | None:
    """Return the log of a team by id or slug; a deleted team has its id only.

    Raises:
        NotFound: there is none.
    """
    if ref in (None, "", SERVICE_LOG):
        return ref or None
    with runtime.records.reading() as session:
        team = session.scalar(select(Team.id).where((Team.id == ref) | (Team.slug == ref)))
        if team is not None:
            return team
        if ref is not None and session.get(AuditLog, ref) is not None:
            return ref
    raise NotFound("team", ref or "")
