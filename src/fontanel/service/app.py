"""The application: routers, middleware, and its runtime."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from threading import Lock
from typing import Any

from fastapi import FastAPI
from pydantic import TypeAdapter
from starlette.middleware import Middleware
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import Route

from fontanel import __version__
from fontanel.engine.ingest.queue import waiting
from fontanel.engine.runtime.runtime import Runtime
from fontanel.schemas import Event
from fontanel.service import console, embed, problems
from fontanel.service import tools as tool_endpoint
from fontanel.service.api import api_routes
from fontanel.service.auth.rate_limits import AtOnce, Pace, SignInLimits
from fontanel.service.auth.request_rates import RequestRates
from fontanel.service.bodies import BodyGate
from fontanel.service.metrics import CurationFigures, ServiceFigures, SourceFigures
from fontanel.service.middleware import Metrics, RequestLog
from fontanel.service.streaming.answers import new_pool
from fontanel.service.streaming.renewal import OpenStreams
from fontanel.service.tools import ToolEndpoint
from fontanel.settings import Settings

_DESCRIPTION = """
Teams keep documents in knowledge bases; questions are answered from them with citations.

Sign in with a key: `Authorization: Bearer fk_...`. Errors are problem details (RFC 9457).
Lists come in pages with a cursor. Edits take `If-Match`; creating requests take `Idempotency-Key`. Times are UTC (RFC 3339).
"""  # noqa: E501


def create_app(settings: Settings, runtime: Runtime | None = None) -> FastAPI:
    """Build the application; without a runtime, no data directory is opened."""

    def count_waiting() -> float:
        if runtime is None:
            return 0
        with runtime.records.reading() as session:
            return waiting(session)

    metrics = Metrics(count_waiting)
    if runtime is not None:
        metrics.registry.register(SourceFigures(runtime.records))
        metrics.registry.register(CurationFigures(runtime.records))
        metrics.registry.register(
            ServiceFigures(runtime.records, settings, runtime.ingest_workers.cluster)
        )
    tools = ToolEndpoint(runtime)

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        async with tools.running(app):
            yield

    app = FastAPI(
        title="Fontanel",
        lifespan=lifespan,
        version=__version__,
        description=_DESCRIPTION,
        docs_url=None,
        redoc_url=None,
        openapi_url=None,
        middleware=[
            Middleware(RequestLog, metrics=metrics, secure=settings.marks_cookie_secure),
            Middleware(
                BodyGate,
                runtime=runtime,
                max_upload=settings.max_upload_mb * 1_000_000,
                grace=settings.body_seconds,
            ),
        ],
    )
    app.state.runtime = runtime
    app.state.metrics = metrics
    app.state.sign_in_limits = SignInLimits()
    app.state.pace = Pace()
    app.state.request_rates = RequestRates()
    app.state.checks = AtOnce(4, "checks of sources")
    app.state.answers = new_pool()
    app.state.streams = OpenStreams()
    problems.install(app)
    app.router.routes += api_routes()
    app.router.routes.append(Route(tool_endpoint.PATH, tools, include_in_schema=False))
    _describe(app)
    embed.install(app)
    console.install(app, settings.root)
    return app


def _describe(app: FastAPI) -> None:
    """Serve the OpenAPI description, made in a thread when first asked for."""
    making = Lock()

    def description() -> dict[str, Any]:
        with making:
            return _description_of(app)

    def send(request: Request) -> JSONResponse:
        return JSONResponse(description())

    app.openapi = description  # type: ignore[method-assign]
    app.router.routes.append(Route("/api/openapi.json", send, include_in_schema=False))


def _description_of(app: FastAPI) -> dict[str, Any]:
    """Return the OpenAPI description, with the events of streams added."""
    if app.openapi_schema is None:
        described = FastAPI.openapi(app)
        events = TypeAdapter(Event).json_schema(
            mode="serialization", ref_template="#/components/schemas/{model}"
        )
        for name, schema in events.pop("$defs").items():
            described["components"]["schemas"].setdefault(name, schema)
        described["components"]["schemas"]["Event"] = events
        for path in ("/api/v1/teams/{team}/kbs/{kb}/ask", "/api/v1/teams/{team}/desks/{desk}/ask"):
            asked = described["paths"][path]["post"]["responses"]["200"]["content"]
            asked["text/event-stream"] = {"schema": {"$ref": "#/components/schemas/Event"}}
    assert app.openapi_schema is not None
    return app.openapi_schema
