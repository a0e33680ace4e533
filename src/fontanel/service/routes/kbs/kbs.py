"""Knowledge bases."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated

from fastapi import Query, Request, Response
from sqlalchemy import func, update

from fontanel.engine.answering.models import usable_model
from fontanel.engine.documents.kbs import create_kb
from fontanel.engine.pictures.choosing import max_pictures_changed, viewer_changed
from fontanel.engine.pictures.found import estimate_pictures
from fontanel.engine.transcription.transcripts import transcriber_changed
from fontanel.errors import Refused
from fontanel.facts import SplitSettings
from fontanel.records.tables import Kb, ProposalRun
from fontanel.schemas import KbChange, KbIn, KbOut, Page, PictureEstimateOut
from fontanel.service.auth.access import Access, Editor, EditorWrite, Reader, check_version
from fontanel.service.chosen import chosen_embedder, chosen_model, chosen_set, chosen_transcriber
from fontanel.service.idempotency import Idempotency
from fontanel.service.out.feeds import atom_feed, changed_documents, feed_response
from fontanel.service.out.kbs import kb_out
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/kbs", "knowledge bases")


#: Fields that are stored as they are.
_PLAIN = (
    "name",
    "description",
    "outdated",
    "proposes_questions",
    "accepts_proposed_documents",
    "max_losses",
    "max_pictures",
)


def _model(access: Access, field: str, name: str | None) -> str | None:
    """Return a model that the team may use; None for what is built in."""
    return None if name in (None, "", "built-in") else chosen_model(access, field, name or "")


def _trial_set(access: Access, ref: str) -> str | None:
    """Return the id of a question set; None for an empty name."""
    if not ref:
        return None
    if access.kb_ids is not None:
        raise Refused(
            "trial_set",
            "This key is limited to some knowledge bases; question sets are the team's.",
        )
    return chosen_set(access, "trial_set", ref)


def _apply(access: Access, kb_row: Kb, body: KbChange) -> None:
    """Change what a request names."""
    if body.max_pictures is not None:
        max_pictures_changed(access.session, kb_row, body.max_pictures)
    for name in _PLAIN:
        if (value := getattr(body, name)) is not None:
            setattr(kb_row, name, value)
    if body.describer is not None:
        kb_row.describer = _model(access, "describer", body.describer)
    if body.proposer is not None:
        kb_row.proposer = _model(access, "proposer", body.proposer)
        # Documents that wait for another model to recover need not wait any longer.
        waiting = update(ProposalRun).where(ProposalRun.kb_id == kb_row.id)
        access.session.execute(waiting.values(again_at=None))
    if body.viewer is not None:
        kb_row.viewer = _model(access, "viewer", body.viewer)
        viewer_changed(access.session, kb_row)
    if body.spoken is not None:
        kb_row.spoken = body.spoken or None
    if body.transcriber is not None:
        chosen = chosen_transcriber(access, body.transcriber) if body.transcriber else None
        kb_row.transcriber = chosen
        transcriber_changed(access.session, kb_row)
    if body.trial_set is not None:
        kb_row.trial_set = _trial_set(access, body.trial_set)


@router.get("", summary="List knowledge bases")
def list_kbs(access: Reader) -> Page[KbOut]:
    kbs = access.session.scalars(access.scope.select(Kb).order_by(func.lower(Kb.name)))
    return Page(items=[kb_out(access, kb) for kb in kbs])


@router.post("", status_code=201, summary="Create a knowledge base")
def create(body: KbIn, access: EditorWrite, request: Request) -> KbOut:
    """A temporary knowledge base is deleted after a while; its name need not be free."""
    if access.scope.kb_ids is not None:
        raise Refused("name", "This key is limited to some knowledge bases and cannot create one.")
    idempotency = Idempotency(request, access.session, access.caller, body.model_dump_json())
    if earlier := idempotency.earlier():
        return KbOut.model_validate_json(earlier)
    settings = access.runtime.settings
    lives = timedelta(hours=settings.temporary_kb_hours) if body.temporary else None
    split = SplitSettings(**body.splitting.model_dump()) if body.splitting else None
    embedder = chosen_embedder(access, body.embedder, access.runtime.local_models.name)
    kb = create_kb(
        access.session, access.team.id, body.name, body.description, embedder, lives, split
    )
    kb.describer = _model(access, "describer", body.describer)
    kb.transcriber = chosen_transcriber(access, body.transcriber) if body.transcriber else None
    kb.spoken = body.spoken or None
    kb.viewer = _model(access, "viewer", body.viewer)
    kb.max_pictures = body.max_pictures
    kb.outdated = body.outdated
    access.session.flush()
    out = kb_out(access, kb)
    idempotency.keep(out.model_dump_json())
    return out


@router.get("/{kb}", summary="Show a knowledge base")
def show(kb: str, access: Reader, response: Response) -> KbOut:
    kb_row = access.scope.kb(kb)
    response.headers["ETag"] = f'"{kb_row.version}"'
    return kb_out(access, kb_row)


@router.patch("/{kb}", summary="Change a knowledge base")
def change(
    kb: str, body: KbChange, access: EditorWrite, request: Request, response: Response
) -> KbOut:
    """Accepts If-Match with the ETag from showing it."""
    kb_row = access.scope.kb(kb)
    check_version(request, kb_row.version)
    if body.name is not None and body.name.lower() != kb_row.name.lower():
        taken = access.scope.select(Kb).where(
            func.lower(Kb.name) == body.name.lower(), Kb.id != kb_row.id
        )
        if access.session.scalar(taken):
            raise Refused(
                "name",
                f"There is a knowledge base named {body.name!r} already. Choose another name.",
            )
    _apply(access, kb_row, body)
    kb_row.version += 1
    access.session.flush()
    response.headers["ETag"] = f'"{kb_row.version}"'
    return kb_out(access, kb_row)


@router.get("/{kb}/pictures/estimate", summary="Estimate what describing pictures takes")
def estimate(
    kb: str, access: Editor, model: Annotated[str, Query(max_length=60)]
) -> PictureEstimateOut:
    """Pictures of documents that were read by an earlier version are not counted."""
    kb_row = access.scope.kb(kb)
    name = chosen_model(access, "model", model)
    row = usable_model(access.session, name, access.team.id)
    found = estimate_pictures(access.session, kb_row, row)
    return PictureEstimateOut(
        model=row.name,
        pictures=found.pictures,
        documents=found.documents,
        tokens=found.tokens,
        cost=found.cost,
        currency=row.currency,
    )


@router.delete("/{kb}", status_code=204, summary="Delete a knowledge base")
def remove(kb: str, access: EditorWrite) -> None:
    """Its documents, conversations and index go with it."""
    kb_row = access.scope.kb(kb)
    access.session.delete(kb_row)


@router.get(
    "/{kb}/feed",
    summary="Follow changed documents as an Atom feed",
    response_class=Response,
    responses={200: {"content": {"application/atom+xml": {}}}, 304: {"description": "Unchanged"}},
)
def show_feed(kb: str, access: Reader, request: Request) -> Response:
    """The fifty documents whose present text came last.

    Feed readers may send a key as the password of HTTP Basic, with any name.
    """
    kb_row = access.scope.kb(kb)
    feed = atom_feed(
        access.team,
        kb_row,
        changed_documents(access.session, kb_row),
        access.runtime.settings.origin,
    )
    return feed_response(request, feed)
