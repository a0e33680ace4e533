"""Text-generating models: set up by operators, named by desks."""

from __future__ import annotations

from fastapi import Request
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.answering.models import endpoint_of
from fontanel.errors import SecretUnreadable
from fontanel.llm import try_model
from fontanel.records.ids import new_id
from fontanel.records.scope import spellings
from fontanel.records.tables import TextModel, now
from fontanel.schemas import ModelChange, ModelCheck, ModelIn, ModelName, ModelOut, Page
from fontanel.service.auth.access import Editor, Operator, RuntimeDep, check_version
from fontanel.service.endpoints import change_endpoint, team_ids
from fontanel.service.out.models import model_out
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router(tag="models")


def _found(session: Session, name: str) -> TextModel:
    named = TextModel.name.in_(spellings(name)) | (TextModel.id == name)
    model = session.scalar(select(TextModel).where(named))
    if model is None:
        raise ApiError("not-found", f"There is no model {name!r}.")
    return model


@router.get("/models", summary="List models")
def list_models(caller: Operator, runtime: RuntimeDep) -> Page[ModelOut]:
    """For operators."""
    with runtime.records.reading() as session:
        rows = session.scalars(select(TextModel).order_by(TextModel.name)).all()
        return Page(items=[model_out(session, row) for row in rows])


@router.post("/models", status_code=201, summary="Set up a model")
def create_model(body: ModelIn, caller: Operator, runtime: RuntimeDep) -> ModelOut:
    """For operators. Desks name it; its address can be changed without touching them."""
    with runtime.records.writing() as session:
        if (
            session.scalar(select(TextModel.id).where(TextModel.name == body.name))
            or body.name == "built-in"
        ):
            raise ApiError(
                "conflict", f"There is a model named {body.name!r} already.", field="name"
            )
        secret = None if not body.secret else runtime.vault.seal(body.secret)
        row = TextModel(
            id=new_id("model"),
            secret=secret,
            team_ids=team_ids(session, body.teams),
            **body.model_dump(exclude={"secret", "teams"}),
        )
        session.add(row)
        session.flush()
        return model_out(session, row)


@router.patch("/models/{model}", summary="Change a model")
def change_model(
    model: str, body: ModelChange, caller: Operator, runtime: RuntimeDep, request: Request
) -> ModelOut:
    """Fields left out stay; a secret of "" deletes it. Desks use the new settings."""
    with runtime.records.writing() as session:
        row = _found(session, model)
        check_version(request, row.version)
        values = body.model_dump(exclude_unset=True)
        change_endpoint(session, runtime.vault, row, values)
        return model_out(session, row)


@router.delete("/models/{model}", status_code=204, summary="Remove a model")
def delete_model(model: str, caller: Operator, runtime: RuntimeDep) -> None:
    """Desks that name it fall back to the built-in composer, and say so."""
    with runtime.records.writing() as session:
        session.delete(_found(session, model))


@router.post("/models/{model}/check", summary="Ask a model one short question")
def check_model(model: str, caller: Operator, runtime: RuntimeDep) -> ModelCheck:
    """For operators. Tells whether it answers, and how fast."""
    with runtime.records.reading() as session:
        row = _found(session, model)
    try:
        endpoint = endpoint_of(row, runtime.vault)
    except SecretUnreadable as error:
        raise ApiError("conflict", str(error)) from error
    tried = try_model(runtime.models, endpoint)
    with runtime.records.writing() as session:
        row = _found(session, model)
        row.error, row.checked_at = tried.error, now()
    return ModelCheck(
        works=tried.error is None,
        error=tried.error,
        first_seconds=tried.first_seconds,
        seconds=round(tried.seconds, 3),
        text=tried.text,
    )


@router.get("/teams/{team}/models", summary="List the models a team may use")
def list_usable(access: Editor) -> Page[ModelName]:
    rows = access.session.scalars(
        select(TextModel).where(TextModel.enabled.is_(True)).order_by(TextModel.name)
    ).all()
    usable = [row for row in rows if row.team_ids is None or access.team.id in row.team_ids]
    return Page(items=[ModelName.model_validate(row) for row in usable])
