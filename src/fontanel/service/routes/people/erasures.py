"""Erasing people, for operators, and documents, for owners."""

from __future__ import annotations

from fontanel.engine.erasing.documents import erase_document
from fontanel.engine.erasing.people import erase_person
from fontanel.engine.erasing.proof import erasures
from fontanel.schemas import ErasureOut
from fontanel.service.audited import note_about
from fontanel.service.auth.access import ContentOwnerWrite, Operator, Owner, RuntimeDep
from fontanel.service.routers import api_router

router = api_router(tag="people")


@router.post("/people/{email}/erase", summary="Erase a person")
def erase(email: str, caller: Operator, runtime: RuntimeDep) -> ErasureOut:
    """By e-mail address or id: the account, conversations, feedback, and the name in records.

    It cannot be undone. What the person did for teams stays, and names nobody.
    """
    note_about("")  # the entry of the audit log must not name them either
    erased = erase_person(runtime.records, email, caller.name, runtime.settings.backup_days)
    return ErasureOut.model_validate(erased)


@router.get("/erasures", summary="List erasures")
def list_erasures(caller: Operator, runtime: RuntimeDep) -> list[ErasureOut]:
    """The newest first."""
    with runtime.records.reading() as session:
        return [ErasureOut.model_validate(one) for one in erasures(session)]


@router.post(
    "/teams/{team}/kbs/{kb}/documents/{document}/erase",
    status_code=202,
    tags=["documents"],
    summary="Erase a document",
)
def erase_traces(kb: str, document: str, access: ContentOwnerWrite) -> ErasureOut:
    """With everything that was found in it: quotes, answers and their explanations.

    It cannot be undone. Files and indexes are cleared in the background, until `finished_at`.
    """
    kb_row = access.scope.kb(kb)
    erased = erase_document(
        access.session,
        kb_row,
        access.scope.document(kb_row, document),
        access.caller.name,
        access.runtime.settings.backup_days,
    )
    return ErasureOut.model_validate(erased)


@router.get("/teams/{team}/erasures", tags=["documents"], summary="List a team's erased documents")
def list_erased_documents(access: Owner) -> list[ErasureOut]:
    """The newest first."""
    return [ErasureOut.model_validate(one) for one in erasures(access.session, access.team.id)]
