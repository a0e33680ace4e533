"""Coverage: which documents and passages answers need, and which nobody does."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated

from fastapi import Query
from sqlalchemy import and_, func, or_, select

from fontanel.core.passages.splitting import Locator
from fontanel.records.tables import Document, DocumentState, PassageRow, PassageUse, now
from fontanel.schemas import DocumentCoverage, LocatorOut, Page, PassageCoverage
from fontanel.service.auth.access import Editor
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/kbs/{kb}", "coverage")


@router.get("/coverage", summary="Show which documents answers need")
def show_coverage(
    kb: str,
    access: Editor,
    unused_days: Annotated[
        int | None,
        Query(ge=1, le=3650, description="Only older documents, not cited for as many days."),
    ] = None,
    offset: Annotated[int, Query(ge=0, le=1_000_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
) -> Page[DocumentCoverage]:
    """The least cited first. Trials do not count."""
    row = access.scope.kb(kb)
    uses = (
        select(
            PassageUse.document_id,
            func.sum(PassageUse.found).label("found"),
            func.sum(PassageUse.cited).label("cited"),
            func.max(PassageUse.last_cited_at).label("last_cited_at"),
        )
        .where(PassageUse.kb_id == row.id)
        .group_by(PassageUse.document_id)
        .subquery()
    )
    passages = (
        select(
            PassageRow.document_key,
            func.count().label("total"),
            func.count(PassageUse.key).label("found"),
        )
        .outerjoin(
            PassageUse,
            and_(
                PassageUse.revision_id == PassageRow.revision_id,
                PassageUse.start == PassageRow.start,
            ),
        )
        .where(PassageRow.edition_id == row.edition_id)
        .group_by(PassageRow.document_key)
        .subquery()
    )
    cited = func.coalesce(uses.c.cited, 0)
    query = (
        select(
            Document,
            uses.c.found,
            uses.c.cited,
            uses.c.last_cited_at,
            passages.c.total,
            passages.c.found,
        )
        .outerjoin(uses, uses.c.document_id == Document.id)
        .outerjoin(passages, passages.c.document_key == Document.key)
        .where(
            Document.team_id == access.team.id,
            Document.kb_id == row.id,
            Document.state != DocumentState.REMOVED,
        )
        .order_by(cited, func.coalesce(uses.c.found, 0), Document.name)
    )
    if unused_days is not None:
        limit_at = now() - timedelta(days=unused_days)
        query = query.where(
            Document.created_at < limit_at,
            or_(uses.c.last_cited_at.is_(None), uses.c.last_cited_at < limit_at),
        )
    rows = access.session.execute(query.offset(offset).limit(limit + 1)).all()
    items = [
        DocumentCoverage(
            document_id=one.id,
            name=one.name,
            title=one.title,
            passages=count or 0,
            found=found or 0,
            cited=times or 0,
            unfound=(count or 0) - (known or 0),
            last_cited_at=last,
            created_at=one.created_at,
        )
        for one, found, times, last, count, known in rows[:limit]
    ]
    return Page(items=items, next=str(offset + limit) if len(rows) > limit else None)


@router.get("/documents/{document}/coverage", summary="Show which passages answers need")
def show_document_coverage(kb: str, document: str, access: Editor) -> Page[PassageCoverage]:
    """The passages of the indexed revision in their order, with how often each was needed."""
    row = access.scope.kb(kb)
    found = access.scope.document(row, document)
    query = (
        select(PassageRow, PassageUse)
        .outerjoin(
            PassageUse,
            and_(
                PassageUse.revision_id == PassageRow.revision_id,
                PassageUse.start == PassageRow.start,
            ),
        )
        .where(
            PassageRow.team_id == access.team.id,
            PassageRow.edition_id == row.edition_id,
            PassageRow.document_key == found.key,
        )
        .order_by(PassageRow.ordinal)
    )
    return Page(
        items=[
            PassageCoverage(
                start=passage.start,
                end=passage.end,
                locator=LocatorOut.model_validate(Locator.from_dict(passage.locator)),
                text=passage.text,
                found=0 if use is None else use.found,
                cited=0 if use is None else use.cited,
            )
            for passage, use in access.session.execute(query)
        ]
    )
