"""Models and embedders as the API returns them."""

from __future__ import annotations

from typing import Any

from sqlalchemy.orm import Session

from fontanel.engine.embedding.registered import kbs_using
from fontanel.records.tables import Embedder, TextModel
from fontanel.schemas import EmbedderOut, ModelOut
from fontanel.service.endpoints import team_slugs


def model_out(session: Session, row: TextModel) -> ModelOut:
    return ModelOut(**_server_fields(session, row, ModelOut))


def embedder_out(session: Session, row: Embedder) -> EmbedderOut:
    used_by = len(kbs_using(session, row.name))
    return EmbedderOut(**_server_fields(session, row, EmbedderOut), used_by=used_by)


def _server_fields(
    session: Session, row: TextModel | Embedder, schema: type[ModelOut | EmbedderOut]
) -> dict[str, Any]:
    """Return the fields of a server that its row has, without its secret."""
    plain = {name: getattr(row, name) for name in schema.model_fields if hasattr(row, name)}
    return {
        **plain,
        "has_secret": row.secret is not None,
        "teams": team_slugs(session, row.team_ids),
    }
