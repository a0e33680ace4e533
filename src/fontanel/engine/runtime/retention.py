"""Retention: what teams keep for a number of days only."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

import structlog
from sqlalchemy import Select, delete, select, update
from sqlalchemy.orm import Session, aliased

from fontanel.records.tables import (
    Conversation,
    Document,
    Revision,
    Team,
    Turn,
    TurnState,
    now,
)
from fontanel.records.unit_of_work import Records

log = structlog.get_logger()

#: Rows that are changed in one unit of work.
_BATCH = 500


def apply_retention(records: Records) -> None:
    """Delete what is past its team's retention, in short units of work.

    Conversations are deleted after their last question; records of how answers were made after the
    answer, which stays with its citations; originals of earlier revisions after they were replaced,
    while their texts stay for the citations of them.
    """
    with records.reading() as session:
        teams = session.scalars(select(Team)).all()
    for team in teams:
        for kind, days, delete_some in (
            ("conversations", team.kept_days, _delete_conversations),
            ("records", team.records_kept_days, _delete_records),
            ("originals", team.originals_kept_days, _delete_originals),
        ):
            if days is None:
                continue
            deleted = _in_batches(records, delete_some, team.id, now() - timedelta(days=days))
            if deleted:
                log.info("retention applied", team=team.id, kind=kind, deleted=deleted)


def _in_batches(
    records: Records, delete_some: Callable[[Session, str, datetime], int], team: str, at: datetime
) -> int:
    total = 0
    while True:
        with records.writing() as session:
            deleted = delete_some(session, team, at)
        total += deleted
        if deleted < _BATCH:
            return total


def _due(session: Session, ids: Select[Any]) -> list[str]:
    return list(session.scalars(ids.limit(_BATCH)).all())


def _delete_conversations(session: Session, team_id: str, before: datetime) -> int:
    old = select(Conversation.id).where(
        Conversation.team_id == team_id, Conversation.changed_at < before
    )
    ids = _due(session, old)
    session.execute(delete(Conversation).where(Conversation.id.in_(ids)))
    return len(ids)


def _delete_records(session: Session, team_id: str, before: datetime) -> int:
    old = select(Turn.id).where(
        Turn.team_id == team_id,
        Turn.created_at < before,
        Turn.record_deleted_at.is_(None),
        Turn.state != TurnState.ANSWERING,
    )
    ids = _due(session, old)
    session.execute(
        update(Turn)
        .where(Turn.id.in_(ids))
        .values(steps=[], prompt=[], raw="", evidence=[], record_deleted_at=now())
    )
    return len(ids)


def _delete_originals(session: Session, team_id: str, before: datetime) -> int:
    """Mark originals as deleted; the sweep deletes files that no other revision has."""
    later = aliased(Revision)
    replaced = (
        select(later.id)
        .where(
            later.document_key == Revision.document_key,
            later.number > Revision.number,
            later.created_at < before,
        )
        .exists()
    )
    old = (
        select(Revision.id)
        .join(Document, Document.key == Revision.document_key)
        .where(
            Revision.team_id == team_id,
            Revision.original_deleted_at.is_(None),
            replaced,
            Revision.id != Document.latest_revision_id,
            Revision.id.is_distinct_from(Document.revision_id),
        )
    )
    ids = _due(session, old)
    session.execute(update(Revision).where(Revision.id.in_(ids)).values(original_deleted_at=now()))
    return len(ids)
