"""Editions as the API returns them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.editions.estimating import estimate_build
from fontanel.engine.editions.lifecycle import is_outdated, progress_of
from fontanel.engine.editions.pausing import cost_of
from fontanel.engine.embedding.registered import find_embedder, known_embedders
from fontanel.engine.ingest.passages import split_settings
from fontanel.records.tables import Edition, Kb, PassageRow
from fontanel.schemas import EditionEstimate, EditionOut, Splitting
from fontanel.service.auth.access import Access


def edition_out(access: Access, kb: Kb, edition: Edition) -> EditionOut:
    passages = access.session.scalar(
        select(func.count()).select_from(PassageRow).where(PassageRow.edition_id == edition.id)
    )
    progress = progress_of(access.session, edition)
    tokens, cost = cost_of(access.session, edition)
    paused = progress.building and edition.paused_by is not None
    return EditionOut(
        id=edition.id,
        number=edition.number,
        active=edition.id == kb.edition_id,
        state="paused" if paused else "building" if progress.building else "ready",
        paused_by=edition.paused_by.value if paused and edition.paused_by else None,
        splitting=splitting_out(edition.settings),
        embedder=edition.embedder,
        outdated=is_outdated(
            edition, access.runtime.local_models.name, known_embedders(access.session)
        ),
        replaces_active=edition.replaces_active,
        passages=passages or 0,
        recall=access.runtime.editions.snapshot(edition.id).recall,
        done=progress.done,
        failed=progress.failed,
        total=progress.total,
        seconds_left=None if paused else progress.seconds_left,
        tokens=tokens,
        cost=cost,
        currency=currency_of(access.session, edition.embedder),
        budget=edition.budget,
        created_at=edition.created_at,
    )


def estimate_out(access: Access, edition: Edition, embedder: str | None) -> EditionEstimate:
    """Return about what embedding all passages of an edition with an embedder takes."""
    local, settings = access.runtime.local_models, access.runtime.settings
    built = estimate_build(
        access.session, edition, embedder, own=local.name, readers=settings.read_processes
    )
    return EditionEstimate(
        embedder=embedder,
        passages=built.passages,
        texts=built.texts,
        tokens=built.tokens,
        cost=round(built.cost, 6),
        currency=currency_of(access.session, embedder),
        seconds=None if built.seconds is None else round(built.seconds, 1),
    )


def currency_of(session: Session, embedder: str | None) -> str:
    """Return the currency of an embedder's price."""
    row = None if embedder is None else find_embedder(session, embedder)
    return "EUR" if row is None else row.currency


def splitting_out(stored: Mapping[str, Any]) -> Splitting:
    """Return an edition's splitting from its stored settings."""
    return Splitting(**asdict(split_settings(stored)))
