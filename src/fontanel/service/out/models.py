"""Models and embedders as the API returns them."""

from __future__ import annotations

from sqlalchemy.orm import Session

from fontanel.engine.embedding.registered import kbs_using
from fontanel.records.tables import Embedder, TextModel
from fontanel.schemas import EmbedderOut, ModelOut
from fontanel.service.endpoints import team_slugs


def model_out(session: Session, row: TextModel) -> ModelOut:
    plain = {
        name: getattr(row, name)
        for name in ModelOut.model_fields
        if name not in ("has_secret", "teams")
    }
    return ModelOut(
        **plain, has_secret=row.secret is not None, teams=team_slugs(session, row.team_ids)
    )


def embedder_out(session: Session, row: Embedder) -> EmbedderOut:
    plain = {
        name: getattr(row, name)
        for name in EmbedderOut.model_fields
        if name not in ("has_secret", "teams", "used_by")
    }
    return EmbedderOut(
        **plain,
        has_secret=row.secret is not None,
        teams=team_slugs(session, row.team_ids),
        used_by=len(kbs_using(session, row.name)),
    )
