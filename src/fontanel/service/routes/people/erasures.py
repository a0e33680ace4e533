"""Erasing people, for operators."""

from __future__ import annotations

from fontanel.engine.erasing.people import erase_person, erasures
from fontanel.schemas import ErasureOut
from fontanel.service.audited import note_about
from fontanel.service.auth.access import Operator, RuntimeDep
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
