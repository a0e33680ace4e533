"""Stored models: how to reach them, whether they respond, and who may use them."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.servers import why_unusable
from fontanel.errors import ModelUnusable, SecretUnreadable
from fontanel.llm import Endpoint, ModelClient
from fontanel.records.tables import TextModel, now
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault


def endpoint_of(model: TextModel, vault: Vault) -> Endpoint:
    """Return where a model is reached.

    Raises:
        SecretUnreadable: its secret cannot be decrypted.
    """
    secret = None if model.secret is None else str(vault.open(model.secret))
    return Endpoint(
        name=model.name,
        url=model.url,
        remote=model.remote,
        secret=secret,
        seconds=model.seconds,
        tries=model.tries,
    )


def usable_model(session: Session, name: str, team_id: str) -> TextModel:
    """Return the model of that name.

    Raises:
        ModelUnusable: the team cannot use it now.
    """
    model = session.scalar(select(TextModel).where(TextModel.name == name))
    if (reason := why_unusable(model, "model", team_id)) is not None:
        raise ModelUnusable(reason)
    assert model is not None
    return model


def check_models(records: Records, client: ModelClient, vault: Vault) -> None:
    """Record which models' servers respond; no model is used, so it is free."""
    endpoints: list[Endpoint] = []
    with records.reading() as session:
        for model in session.scalars(select(TextModel).where(TextModel.enabled.is_(True))):
            try:
                endpoints.append(endpoint_of(model, vault))
            except SecretUnreadable:
                continue  # reported when the model is used
    if not endpoints:
        return
    errors = client.check(endpoints)
    with records.reading() as session:
        recorded = {
            model.name: (model.error, model.checked_at is None)
            for model in session.scalars(select(TextModel))
        }
    changed = {
        name: error
        for name, error in errors.items()
        if recorded.get(name, (error, False)) != (error, False)
    }
    if not changed:
        return
    with records.writing() as session:
        for model in session.scalars(select(TextModel).where(TextModel.name.in_(changed))):
            model.error, model.checked_at = changed[model.name], now()
