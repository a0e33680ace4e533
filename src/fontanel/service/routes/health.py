"""Whether the service lives and is ready, and its metrics."""

from __future__ import annotations

import hmac
from ipaddress import ip_address

from fastapi import APIRouter, Request, Response
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest

from fontanel import __version__
from fontanel.engine.ingest.queue import waiting
from fontanel.schemas import Health
from fontanel.service.auth.access import RuntimeDep, credentials_of
from fontanel.service.problems import ApiError, disk_full, has_room

router = APIRouter(tags=["health"])


@router.get("/health/live", summary="Whether the process answers")
def live() -> dict[str, str]:
    return {"status": "ok"}


@router.get("/health/ready", summary="Whether the service can work")
def ready(runtime: RuntimeDep) -> Health:
    """Also says when there is no embedder, or no evidence model, and what that means."""
    with runtime.records.reading() as session:
        count = waiting(session)
    embedder = runtime.local_models.name
    if not has_room(runtime.settings):
        raise disk_full(runtime.settings)
    models = runtime.local_models
    notes = []
    if embedder is None:
        notes.append(f"No embedder: searches and answers use keywords only ({models.problem}).")
    if models.evidence_name is None:
        notes.append(
            "No evidence model: answers are checked by similarity and shared words, and deep"
            f" searches stay fast ({models.evidence_problem})."
        )
    return Health(
        status="ok",
        version=__version__,
        embedder=embedder,
        evidence=models.evidence_name,
        note=" ".join(notes) or None,
        waiting=count,
    )


@router.get("/metrics", summary="Figures in the OpenMetrics format", response_class=Response)
def metrics(request: Request, runtime: RuntimeDep) -> Response:
    """With the operator's token; without one only from the service's own machine."""
    if not _may_read_metrics(request, runtime.settings.metrics_token):
        raise ApiError(
            "not-signed-in",
            "The figures are for the operator.",
            advice="Send FONTANEL_METRICS_TOKEN as a bearer token.",
        )
    text: bytes = generate_latest(request.app.state.metrics.registry)  # type: ignore[no-untyped-call]
    return Response(text, media_type=CONTENT_TYPE_LATEST)


def _may_read_metrics(request: Request, token: str) -> bool:
    if token:
        return hmac.compare_digest((credentials_of(request).bearer or "").encode(), token.encode())
    # What a proxy passes on comes from this machine too.
    forwarded = {"x-forwarded-for", "forwarded", "via"} & set(request.headers.keys())
    try:
        return (
            not forwarded
            and request.client is not None
            and ip_address(request.client.host).is_loopback
        )
    except ValueError:
        return False
