"""Counts of documents that a model described."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.records.tables import (
    Description,
    Document,
    Kb,
)


def counts_of(session: Session, kb: Kb) -> tuple[int, int, int, str | None]:
    """Count a knowledge base's described, waiting and failed documents.

    Returns:
        The counts, and the newest failure.
    """
    current = (
        select(Document.key, Description)
        .outerjoin(
            Description,
            (Description.revision_id == Document.revision_id) & (Description.model == kb.describer),
        )
        .where(Document.kb_id == kb.id, Document.revision_id.is_not(None))
    ).subquery()
    failed = current.c.error.is_not(None)
    described, existing, wrong = session.execute(
        select(
            func.count().filter(~failed),
            func.count(current.c.revision_id),
            func.count().filter(failed),
        ).where(current.c.revision_id.is_not(None))
    ).one()
    total = session.scalar(select(func.count()).select_from(current)) or 0
    newest = session.scalar(
        select(current.c.error).where(failed).order_by(current.c.at.desc()).limit(1)
    )
    return described, total - existing, wrong, newest
