"""Editions as the API returns them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from sqlalchemy import func, select

from fontanel.engine.editions.lifecycle import is_outdated, progress_of
from fontanel.engine.ingest.passages import split_settings
from fontanel.records.tables import Edition, Kb, PassageRow
from fontanel.schemas import EditionOut, Splitting
from fontanel.service.auth.access import Access


def edition_out(access: Access, kb: Kb, edition: Edition) -> EditionOut:
    passages = access.session.scalar(
        select(func.count()).select_from(PassageRow).where(PassageRow.edition_id == edition.id)
    )
    progress = progress_of(access.session, edition)
    return EditionOut(
        id=edition.id,
        number=edition.number,
        active=edition.id == kb.edition_id,
        state="building" if progress.building else "ready",
        splitting=splitting_out(edition.settings),
        embedder=edition.embedder,
        outdated=is_outdated(edition, access.runtime.local_models.name),
        replaces_active=edition.replaces_active,
        passages=passages or 0,
        recall=access.runtime.editions.snapshot(edition.id).recall,
        done=progress.done,
        failed=progress.failed,
        total=progress.total,
        seconds_left=progress.seconds_left,
        created_at=edition.created_at,
    )


def splitting_out(stored: Mapping[str, Any]) -> Splitting:
    """Return an edition's splitting from its stored settings."""
    return Splitting(**asdict(split_settings(stored)))
