"""Knowledge bases."""

from __future__ import annotations

from datetime import datetime, timedelta

from fastapi import Request, Response
from sqlalchemy import func, select

from fontanel.core.splitting import SplitSettings
from fontanel.records.tables import SETTLED, Document, DocumentState, Edition, Kb, PassageRow
from fontanel.schemas import DescribingOut, KbChange, KbIn, KbOut, Page, Splitting
from fontanel.service.access import Access, EditorWrite, Idempotency, Reader, check_version
from fontanel.service.routers import api_router
from fontanel.work.describing import counts_of
from fontanel.work.desks import usable_model
from fontanel.work.documents import Refused, create_kb
from fontanel.work.passages import split_settings

router = api_router("/teams/{team}/kbs", "knowledge bases")


def kb_out(access: Access, kb: Kb) -> KbOut:
    session = access.session
    by_state = select(Document.state, func.count()).where(Document.kb_id == kb.id).group_by(Document.state)
    counts: dict[str, int] = {state: count for state, count in session.execute(by_state).tuples()}
    passages = session.scalar(
        select(func.count()).select_from(PassageRow).where(PassageRow.edition_id == kb.edition_id)
    )
    changed: datetime | None = session.scalar(select(func.max(Document.changed_at)).where(Document.kb_id == kb.id))
    edition = session.get(Edition, kb.edition_id)
    return KbOut(
        id=kb.id, slug=kb.slug, name=kb.name, description=kb.description,
        documents=sum(counts.values()) - counts.get(DocumentState.REMOVED, 0),
        passages=passages or 0,
        pending=sum(count for state, count in counts.items() if state not in SETTLED),
        failed=counts.get(DocumentState.FAILED, 0), embedder=edition.embedder if edition else None,
        splitting=Splitting(**split_settings(edition.settings if edition else {})), describing=_describing(access, kb),
        created_at=kb.created_at, changed_at=changed, expires_at=kb.expires_at, version=kb.version,
    )  # fmt: skip


def _describing(access: Access, kb: Kb) -> DescribingOut | None:
    if kb.describer is None:
        return None
    described, waiting, failed, error = counts_of(access.session, kb)
    model = usable_model(access.session, kb.describer, kb.team_id)
    return DescribingOut(
        model=kb.describer, described=described, waiting=waiting, failed=failed,
        error=model if isinstance(model, str) else error,
    )  # fmt: skip


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
    kb = create_kb(access.session, access.team.id, body.name, body.description, embedder, lives, split)
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
def change(kb: str, body: KbChange, access: EditorWrite, request: Request, response: Response) -> KbOut:
    """Takes If-Match with the ETag that showing it gave."""
    found = access.scope.kb(kb)
    check_version(request, found.version)
    if body.name is not None and body.name.lower() != found.name.lower():
        taken = access.scope.select(Kb).where(func.lower(Kb.name) == body.name.lower(), Kb.id != found.id)
        if access.session.scalar(taken):
            raise Refused("name", f"There is a knowledge base named {body.name!r} already. Choose another name.")
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
