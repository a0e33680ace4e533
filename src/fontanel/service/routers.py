"""Routers of the API's parts."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Path

from fontanel.schemas import Problem
from fontanel.service.bodies import BodyRoute

#: What a thing of a knowledge base, a desk or an answer is numbered by, from 1.
Number = Annotated[int, Path(ge=1, le=1_000_000)]

_FAILURES: dict[int | str, dict[str, Any]] = {
    status: {"model": Problem, "content": {"application/problem+json": {}}, "description": title}
    for status, title in (
        (401, "Not signed in"),
        (403, "Not allowed"),
        (404, "Not found"),
        (422, "Not valid"),
    )
}


def api_router(prefix: str = "", tag: str | None = None) -> APIRouter:
    """A router below /api/v1. Its routes are whole as they stand, so that the application takes them over as they are: to include a
    router would build each of its routes again, which for all of them takes a second and more."""
    return APIRouter(
        prefix=f"/api/v1{prefix}",
        tags=[tag] if tag else None,
        responses=_FAILURES,
        route_class=BodyRoute,
    )
