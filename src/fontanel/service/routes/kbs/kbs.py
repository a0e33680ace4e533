"""Knowledge bases."""

from __future__ import annotations

from datetime import timedelta

from fastapi import Request, Response
from sqlalchemy import func, select

from fontanel.core.passages.splitting import SplitSettings
from fontanel.engine.answering.models import usable_model
from fontanel.engine.documents.kbs import create_kb
from fontanel.errors import Refused
from fontanel.records.tables import Edition, Kb
from fontanel.schemas import KbChange, KbIn, KbOut, Page
from fontanel.service.auth.access import Access, EditorWrite, Reader, check_version
from fontanel.service.idempotency import Idempotency
from fontanel.service.out.kbs import kb_out
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/kbs", "knowledge bases")


def _describer(access: Access, name: str | None) -> str | None:
    """A model that the team may use; None for the built-in."""
    if name is None or name in ("", "built-in"):
        return None
    found = usable_model(access.session, name, access.team.id)
    if isinstance(found, str):
        raise Refused("describer", f"The model {name!r} cannot be used: {found}.")
    return found.name


@router.get("", summary="List knowledge bases")
def list_kbs(access: Reader) -> Page[KbOut]:
    kbs = access.session.scalars(access.scope.select(Kb).order_by(func.lower(Kb.name)))
    return Page(items=[kb_out(access, kb) for kb in kbs])


@router.post("", status_code=201, summary="Create a knowledge base")
def create(body: KbIn, access: EditorWrite, request: Request) -> KbOut:
    """A throw-away knowledge base vanishes by itself; its name need not be free."""
    if access.scope.kb_ids is not None:
        raise Refused("name", "This key reaches single knowledge bases only and cannot create one.")
    idempotency = Idempotency(request, access.session, access.caller, body.model_dump_json())
    if earlier := idempotency.earlier():
        return KbOut.model_validate_json(earlier)
    settings = access.workshop.settings
    lives = timedelta(hours=settings.throwaway_hours) if body.throwaway else None
    split = SplitSettings(**body.splitting.model_dump()) if body.splitting else None
    embedder = access.workshop.embedders.name
    kb = create_kb(
        access.session, access.team.id, body.name, body.description, embedder, lives, split
    )
    kb.describer = _describer(access, body.describer)
    access.session.flush()
    out = kb_out(access, kb)
    idempotency.keep(out.model_dump_json())
    access.session.commit()
    return out


@router.get("/{kb}", summary="Show a knowledge base")
def show(kb: str, access: Reader, response: Response) -> KbOut:
    found = access.scope.kb(kb)
    response.headers["ETag"] = f'"{found.version}"'
    return kb_out(access, found)


@router.patch("/{kb}", summary="Change a knowledge base")
def change(
    kb: str, body: KbChange, access: EditorWrite, request: Request, response: Response
) -> KbOut:
    """Takes If-Match with the ETag that showing it gave."""
    found = access.scope.kb(kb)
    check_version(request, found.version)
    if body.name is not None and body.name.lower() != found.name.lower():
        taken = access.scope.select(Kb).where(
            func.lower(Kb.name) == body.name.lower(), Kb.id != found.id
        )
        if access.session.scalar(taken):
            raise Refused(
                "name",
                f"There is a knowledge base named {body.name!r} already. Choose another name.",
            )
    found.name = body.name if body.name is not None else found.name
    found.description = body.description if body.description is not None else found.description
    if body.describer is not None:
        found.describer = _describer(access, body.describer)
    found.version += 1
    access.session.commit()
    access.workshop.wake()
    response.headers["ETag"] = f'"{found.version}"'
    return kb_out(access, found)


@router.delete("/{kb}", status_code=204, summary="Delete a knowledge base")
def remove(kb: str, access: EditorWrite) -> None:
    """Its documents, conversations and index go with it."""
    found = access.scope.kb(kb)
    kb_id = found.id
    editions = access.session.scalars(select(Edition.id).where(Edition.kb_id == kb_id)).all()
    access.session.delete(found)
    access.session.commit()
    for edition_id in editions:
        access.workshop.editions.forget(edition_id)
    access.workshop.changes.tell(kb_id)
