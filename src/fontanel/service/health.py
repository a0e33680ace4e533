"""Whether the service lives and is ready, and its metrics."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest

from fontanel import __version__
from fontanel.schemas import Health
from fontanel.service.access import WorkshopDep
from fontanel.work.queue import waiting

router = APIRouter(tags=["health"])


@router.get("/health/live", summary="Whether the process answers")
def live() -> dict[str, str]:
    return {"status": "ok"}


@router.get("/health/ready", summary="Whether the service can work")
def ready(workshop: WorkshopDep) -> Health:
    """Also says when there is no embedder, so that search works by words alone."""
    with workshop.sessions() as session:
        count = waiting(session)
    embedder = workshop.embedders.name
    note = None
    if embedder is None:
        note = f"No embedder: searches and answers go by words alone ({workshop.embedders.problem})."
    return Health(status="ok", version=__version__, embedder=embedder, note=note, waiting=count)


@router.get("/metrics", summary="Figures in the OpenMetrics format", response_class=Response)
def metrics(request: Request) -> Response:
    text: bytes = generate_latest(request.app.state.metrics.registry)  # type: ignore[no-untyped-call]
    return Response(text, media_type=CONTENT_TYPE_LATEST)
