"""Transcribers: registered by operators, chosen by knowledge bases."""

from __future__ import annotations

import time
from dataclasses import replace

from fastapi import Request
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.core.reading.spoken.sound import short_sound
from fontanel.engine.transcription.registered import find_transcriber, transcriber_endpoint
from fontanel.errors import Refused, SecretUnreadable
from fontanel.llm import CallFailed, TranscriptionEndpoint
from fontanel.records.ids import new_id
from fontanel.records.tables import Kb, Transcriber, now
from fontanel.schemas import (
    Page,
    TranscriberChange,
    TranscriberCheck,
    TranscriberIn,
    TranscriberName,
    TranscriberOut,
)
from fontanel.service.auth.access import Editor, Operator, RuntimeDep, check_version
from fontanel.service.endpoints import change_endpoint, team_ids
from fontanel.service.out.models import transcriber_out
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router(tag="transcribers")


@router.get("/transcribers", summary="List registered transcribers")
def list_transcribers(caller: Operator, runtime: RuntimeDep) -> Page[TranscriberOut]:
    """For operators."""
    with runtime.records.reading() as session:
        rows = session.scalars(select(Transcriber).order_by(Transcriber.name)).all()
        return Page(items=[transcriber_out(session, row) for row in rows])


@router.post("/transcribers", status_code=201, summary="Register a transcriber")
def register_transcriber(
    body: TranscriberIn, caller: Operator, runtime: RuntimeDep
) -> TranscriberOut:
    """For operators. A second of sound is sent to it first."""
    with runtime.records.reading() as session:
        _check_name(session, body.name)
    endpoint = TranscriptionEndpoint(
        body.name, body.url, body.remote, secret=body.secret or None, seconds=body.seconds, tries=1
    )
    try:
        runtime.transcription.transcribe(endpoint, *short_sound(), None)
    except CallFailed as error:
        raise Refused("url", f"The transcriber was not registered: {error}.") from error
    with runtime.records.writing() as session:
        _check_name(session, body.name)
        row = Transcriber(
            id=new_id("ear"),
            secret=runtime.vault.seal(body.secret) if body.secret else None,
            team_ids=team_ids(session, body.teams),
            checked_at=now(),
            **body.model_dump(exclude={"secret", "teams"}),
        )
        session.add(row)
        session.flush()
        return transcriber_out(session, row)


@router.get("/transcribers/{transcriber}", summary="Show a registered transcriber")
def show_transcriber(transcriber: str, caller: Operator, runtime: RuntimeDep) -> TranscriberOut:
    """For operators."""
    with runtime.records.reading() as session:
        return transcriber_out(session, _found(session, transcriber))


@router.patch("/transcribers/{transcriber}", summary="Change a transcriber")
def change_transcriber(
    transcriber: str,
    body: TranscriberChange,
    caller: Operator,
    runtime: RuntimeDep,
    request: Request,
) -> TranscriberOut:
    """Its address, limits, price or teams; fields left out stay.

    Recordings that it transcribed keep their text.
    """
    with runtime.records.writing() as session:
        row = _found(session, transcriber)
        check_version(request, row.version)
        change_endpoint(session, runtime.vault, row, body.model_dump(exclude_unset=True))
        return transcriber_out(session, row)


@router.delete("/transcribers/{transcriber}", status_code=204, summary="Remove a transcriber")
def delete_transcriber(transcriber: str, caller: Operator, runtime: RuntimeDep) -> None:
    """Refused while a knowledge base has chosen it. Its transcripts are kept."""
    with runtime.records.writing() as session:
        row = _found(session, transcriber)
        used = select(func.count()).select_from(Kb).where(Kb.transcriber == row.name)
        if count := session.scalar(used):
            raise ApiError(
                "conflict",
                f"{row.name} is the transcriber of {count} knowledge bases.",
                advice="Choose another one for them first.",
            )
        session.delete(row)


@router.post("/transcribers/{transcriber}/check", summary="Check a transcriber")
def check_transcriber(transcriber: str, caller: Operator, runtime: RuntimeDep) -> TranscriberCheck:
    """For operators. Sends a second of sound."""
    with runtime.records.reading() as session:
        try:
            endpoint = transcriber_endpoint(_found(session, transcriber), runtime.vault)
        except SecretUnreadable as error:
            raise ApiError("conflict", str(error)) from error
    started = time.monotonic()
    problem = None
    try:
        runtime.transcription.transcribe(replace(endpoint, tries=1), *short_sound(), None)
    except CallFailed as error:
        problem = str(error)
    with runtime.records.writing() as session:
        row = _found(session, transcriber)
        row.error, row.checked_at = problem, now()
    return TranscriberCheck(
        works=problem is None, error=problem, seconds=round(time.monotonic() - started, 3)
    )


@router.get("/teams/{team}/transcribers", summary="List the transcribers a team may use")
def list_usable_transcribers(access: Editor) -> Page[TranscriberName]:
    query = select(Transcriber).where(Transcriber.enabled.is_(True)).order_by(Transcriber.name)
    return Page(
        items=[
            TranscriberName(name=row.name, price=row.price, currency=row.currency, error=row.error)
            for row in access.session.scalars(query)
            if row.team_ids is None or access.team.id in row.team_ids
        ]
    )


def _check_name(session: Session, name: str) -> None:
    if find_transcriber(session, name) is not None:
        raise ApiError(
            "conflict",
            f"There is a transcriber named {name!r} already.",
            field="name",
            advice="Choose another name.",
        )


def _found(session: Session, name: str) -> Transcriber:
    named = (Transcriber.name == name) | (Transcriber.id == name)
    row = session.scalar(select(Transcriber).where(named))
    if row is None:
        raise ApiError("not-found", f"There is no transcriber {name!r}.")
    return row
