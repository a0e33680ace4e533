"""Models as the records keep them: where they are reached, and whether they are."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.llm import Endpoint, ModelLine
from fontanel.records.database import Sessions, writing
from fontanel.records.tables import TextModel, now
from fontanel.records.vault import SecretsLost, Vault


def endpoint_of(row: TextModel, vault: Vault) -> Endpoint:
    """Where a model is reached. Raises SecretsLost."""
    secret = None if row.secret is None else str(vault.open(row.secret))
    return Endpoint(row.name, row.url, row.remote, secret, row.seconds, row.tries)


def look_after_models(sessions: Sessions, line: ModelLine, vault: Vault) -> None:
    """Note which models' servers can be reached, for those who choose one. Nothing is asked of a model, so that it costs nothing."""
    endpoints: list[Endpoint] = []
    with sessions() as session:
        for row in session.scalars(select(TextModel).where(TextModel.enabled.is_(True))):
            try:
                endpoints.append(endpoint_of(row, vault))
            except SecretsLost:
                continue  # what is wrong is said when it is used
    if not endpoints:
        return
    found = line.reach(endpoints)
    with sessions() as session:
        known = {
            row.name: (row.error, row.checked_at is None)
            for row in session.scalars(select(TextModel))
        }
    changed = {
        name: error
        for name, error in found.items()
        if known.get(name, (error, False)) != (error, False)
    }
    if not changed:
        return
    with writing(sessions) as session:
        for row in session.scalars(select(TextModel).where(TextModel.name.in_(changed))):
            row.error, row.checked_at = changed[row.name], now()
        session.commit()


def usable_model(session: Session, name: str, team_id: str) -> TextModel | str:
    """The model of that name, or why the team may not use it."""
    found = session.scalar(select(TextModel).where(TextModel.name == name))
    if found is None:
        return "there is no model of that name any more"
    if found.team_ids is not None and team_id not in found.team_ids:
        return "the team may not use it"
    return found if found.enabled else "it is switched off"
