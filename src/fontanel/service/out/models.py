"""Models, embedders and transcribers as the API returns them."""

from __future__ import annotations

from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.embedding.registered import kbs_using
from fontanel.records.tables import Embedder, Kb, TextModel, Transcriber
from fontanel.schemas import EmbedderOut, ModelOut, TranscriberOut
from fontanel.service.endpoints import team_slugs


def model_out(session: Session, row: TextModel) -> ModelOut:
    return ModelOut(**_server_fields(session, row, ModelOut))


def embedder_out(session: Session, row: Embedder) -> EmbedderOut:
    used_by = len(kbs_using(session, row.name))
    return EmbedderOut(**_server_fields(session, row, EmbedderOut), used_by=used_by)


def transcriber_out(session: Session, row: Transcriber) -> TranscriberOut:
    used = select(func.count()).select_from(Kb).where(Kb.transcriber == row.name)
    fields = _server_fields(session, row, TranscriberOut)
    return TranscriberOut(**fields, used_by=session.scalar(used) or 0)


def _server_fields(
    session: Session,
    row: TextModel | Embedder | Transcriber,
    schema: type[ModelOut | EmbedderOut | TranscriberOut],
) -> dict[str, Any]:
    """Return the fields of a server that its row has, without its secret."""
    plain = {name: getattr(row, name) for name in schema.model_fields if hasattr(row, name)}
    return {
        **plain,
        "has_secret": row.secret is not None,
        "teams": team_slugs(session, row.team_ids),
    }
