"""Defaults and limits of the service, for its console and other clients."""

from __future__ import annotations

from fontanel import __version__
from fontanel.facts import (
    EDITABLE_ENDINGS,
    KEYWORD_WEIGHT,
    MAX_EDITABLE_BYTES,
    MAX_EDITIONS,
    MAX_TAGS,
    SETTLED_STATES,
)
from fontanel.schemas import FactsOut, Splitting
from fontanel.service.auth.access import CallerDep, RuntimeDep
from fontanel.service.routers import api_router

router = api_router(tag="service")


@router.get("/facts", summary="Show defaults and limits of the service")
def show_facts(caller: CallerDep, runtime: RuntimeDep) -> FactsOut:
    """For anybody who is signed in."""
    return FactsOut(
        version=__version__,
        splitting=Splitting(),
        settled_states=list(SETTLED_STATES),
        keyword_weight=KEYWORD_WEIGHT,
        editable_endings=list(EDITABLE_ENDINGS),
        max_editable_bytes=MAX_EDITABLE_BYTES,
        max_upload_mb=runtime.settings.max_upload_mb,
        max_tags=MAX_TAGS,
        max_editions=MAX_EDITIONS,
    )
