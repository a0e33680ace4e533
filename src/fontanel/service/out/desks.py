"""Desks and their versions as the API returns them."""

from __future__ import annotations

from sqlalchemy import func, select

from fontanel.engine.answering.targets import published_version
from fontanel.engine.curation.approved import flagged_count
from fontanel.records.tables import Desk, DeskLink, DeskVersion
from fontanel.schemas import (
    DeskOut,
    DeskSettings,
    DeskVersionOut,
)
from fontanel.service.auth.access import Access


def version_out(row: DeskVersion) -> DeskVersionOut:
    settings = DeskSettings.model_validate(row.settings)
    return DeskVersionOut(
        number=row.number,
        note=row.note,
        author=row.author,
        settings=settings,
        created_at=row.created_at,
    )


def desk_out(access: Access, desk: Desk) -> DeskOut:
    session = access.session
    published = published_version(session, desk)
    open_links = select(func.count()).where(
        DeskLink.desk_id == desk.id, DeskLink.revoked_at.is_(None)
    )
    served = desk.draft if published is None else published.settings
    return DeskOut(
        id=desk.id,
        slug=desk.slug,
        name=desk.name,
        draft=DeskSettings.model_validate(desk.draft),
        published=None if published is None else version_out(published),
        second_version=desk.second_version,
        second_share=desk.second_share,
        changed=published is None or published.settings != desk.draft,
        links=session.scalar(open_links) or 0,
        visitor_key=desk.visitor_key is not None,
        flagged=flagged_count(session, [part["kb"] for part in served["kbs"]]),
        created_at=desk.created_at,
        changed_at=desk.changed_at,
        version=desk.version,
    )
