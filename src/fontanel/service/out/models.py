"""Models as the API returns them."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.records.tables import Team, TextModel
from fontanel.schemas import ModelOut


def _out(session: Session, row: TextModel) -> ModelOut:
    teams = None
    if row.team_ids is not None:
        teams = list(
            session.scalars(select(Team.slug).where(Team.id.in_(row.team_ids)).order_by(Team.slug))
        )
    plain = {
        name: getattr(row, name)
        for name in ModelOut.model_fields
        if name not in ("has_secret", "teams")
    }
    return ModelOut(**plain, has_secret=row.secret is not None, teams=teams)
