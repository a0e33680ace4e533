"""Runs of sources: seen, confirmed, rejected, ended."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from sqlalchemy import select

from fontanel.records.tables import Document, Outcome, Revision, Sync, SyncItem, SyncState, now
from fontanel.schemas import OutcomeName, Page, SyncItemOut, SyncOut
from fontanel.service.auth.access import EditorWrite, Reader
from fontanel.service.out.sources import sync_out
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/kbs/{kb}/sources/{source}/syncs", "syncs")


@router.get("", summary="List runs")
def list_syncs(
    kb: str,
    source: str,
    access: Reader,
    cursor: str | None = None,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> Page[SyncOut]:
    """Newest first."""
    source_row = access.scope.source(access.scope.kb(kb), source)
    query = access.scope.select(Sync).where(Sync.source_id == source_row.id)
    if cursor is not None:
        before = select(Sync.created_at).where(Sync.id == cursor).scalar_subquery()
        query = query.where(Sync.created_at < before)
    rows = access.session.scalars(query.order_by(Sync.created_at.desc()).limit(limit + 1)).all()
    items = [sync_out(access.session, row) for row in rows[:limit]]
    return Page(items=items, next=items[-1].id if len(rows) > limit else None)


@router.get("/{sync}", summary="Show a run")
def show(kb: str, source: str, sync: str, access: Reader) -> SyncOut:
    return sync_out(
        access.session, access.scope.sync(access.scope.source(access.scope.kb(kb), source), sync)
    )


@router.get("/{sync}/items", summary="List what a run did, item by item")
def list_items(
    kb: str,
    source: str,
    sync: str,
    access: Reader,
    outcome: OutcomeName | None = None,
    cursor: int | None = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> Page[SyncItemOut]:
    """Unchanged items are listed for web sites only."""
    sync_row = access.scope.sync(access.scope.source(access.scope.kb(kb), source), sync)
    query = (
        select(SyncItem, Document, Revision)
        .outerjoin(Document, Document.key == SyncItem.document_key)
        .outerjoin(Revision, Revision.id == SyncItem.revision_id)
        .where(SyncItem.sync_id == sync_row.id, SyncItem.team_id == access.team.id)
    )
    if outcome:
        query = query.where(SyncItem.outcome == Outcome(outcome))
    if cursor is not None:
        query = query.where(SyncItem.key > cursor)
    rows = access.session.execute(query.order_by(SyncItem.key).limit(limit + 1)).all()
    items = [
        SyncItemOut(
            id=item.item_id,
            outcome=item.outcome.value,
            reason=item.reason,
            bytes=item.bytes,
            document_id=document.id if document else None,
            name=document.name if document else None,
            state=document.state.value if document else None,
            error=document.error if document else None,
            words=(revision.report or {}).get("words") if revision else None,
            passages=revision.passages if revision else None,
            embedded=revision.embedded if revision else None,
            seconds=revision.seconds if revision else {},
        )
        for item, document, revision in rows[:limit]
    ]
    return Page(items=items, next=str(rows[limit - 1][0].key) if len(rows) > limit else None)


@router.post("/{sync}/confirm", status_code=202, summary="Let a held run continue")
def confirm(kb: str, source: str, sync: str, access: EditorWrite) -> SyncOut:
    """Removes what it listed, no more: later removals are held again."""
    sync_row = access.scope.sync(access.scope.source(access.scope.kb(kb), source), sync)
    if sync_row.state != SyncState.HELD:
        raise ApiError("conflict", "The run is not held; there is nothing to confirm.")
    sync_row.state, sync_row.confirmed, sync_row.held_reason, sync_row.finished_at = (
        SyncState.WAITING,
        True,
        None,
        None,
    )
    access.session.flush()
    return sync_out(access.session, sync_row)


@router.post("/{sync}/reject", summary="Keep what a held run would remove, or cancel a run")
def reject(kb: str, source: str, sync: str, access: EditorWrite) -> SyncOut:
    """What the run has stored so far remains."""
    sync_row = access.scope.sync(access.scope.source(access.scope.kb(kb), source), sync)
    if sync_row.state not in (SyncState.HELD, SyncState.WAITING, SyncState.RUNNING):
        raise ApiError("conflict", "The run is over.")
    sync_row.state, sync_row.finished_at, sync_row.error = (
        SyncState.ENDED,
        now(),
        "Ended by a person.",
    )
    access.session.flush()
    return sync_out(access.session, sync_row)
