"""Editions as the API returns them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.editions.lifecycle import is_outdated, progress_of
from fontanel.engine.embedding.registered import find_embedder, known_embedders
from fontanel.engine.ingest.passages import estimated_texts, split_settings
from fontanel.records.tables import Edition, Kb, PassageRow
from fontanel.schemas import EditionEstimate, EditionOut, Splitting
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
        outdated=is_outdated(
            edition, access.runtime.local_models.name, known_embedders(access.session)
        ),
        replaces_active=edition.replaces_active,
        passages=passages or 0,
        recall=access.runtime.editions.snapshot(edition.id).recall,
        done=progress.done,
        failed=progress.failed,
        total=progress.total,
        seconds_left=progress.seconds_left,
        created_at=edition.created_at,
    )


def estimate_out(session: Session, edition: Edition, embedder: str | None) -> EditionEstimate:
    """Return about what embedding all passages of an edition with an embedder takes."""
    row = None if embedder is None else find_embedder(session, embedder)
    passages, texts, tokens = estimated_texts(session, edition)
    if embedder is None:
        texts = tokens = 0
    price, currency = (0.0, "EUR") if row is None else (row.price, row.currency)
    return EditionEstimate(
        embedder=embedder,
        passages=passages,
        texts=texts,
        tokens=tokens,
        cost=round(tokens * price / 1_000_000, 6),
        currency=currency,
    )


def splitting_out(stored: Mapping[str, Any]) -> Splitting:
    """Return an edition's splitting from its stored settings."""
    return Splitting(**asdict(split_settings(stored)))
