"""Examining the service, for operators."""

from __future__ import annotations

from dataclasses import asdict

from fontanel.engine.doctor import Examined, Finding, examine
from fontanel.engine.doctor.bundle import bundle_parts
from fontanel.engine.runtime.runtime import Runtime
from fontanel.schemas import FindingOut, SupportBundle
from fontanel.service.auth.access import Operator, RuntimeDep
from fontanel.service.routers import api_router

router = api_router("/doctor", "service")


def _examine(runtime: Runtime) -> list[Finding]:
    what = Examined(runtime.settings, runtime.records, runtime.vault, runtime.local_models)
    return examine(what)


@router.get("", summary="Examine the service")
def examine_service(caller: Operator, runtime: RuntimeDep) -> list[FindingOut]:
    """What is wrong, and what to do: disk, database, files, models, sources, backups and more."""
    return [FindingOut(**asdict(finding)) for finding in _examine(runtime)]


@router.get("/bundle", summary="Collect what helps to find a fault")
def support_bundle(caller: Operator, runtime: RuntimeDep) -> SupportBundle:
    """Findings, settings without secrets, versions, and numbers of rows; no contents."""
    findings = _examine(runtime)
    with runtime.records.reading() as session:
        return SupportBundle(**bundle_parts(session, runtime.settings, findings))
