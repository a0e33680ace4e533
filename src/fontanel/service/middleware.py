"""The wrapping of every request: its id, log line and metrics."""

from __future__ import annotations

import time
from collections.abc import Callable

import structlog
from prometheus_client import CollectorRegistry, Counter, Gauge, Histogram
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from fontanel import tracing
from fontanel.records.audit import Acting, acting_as
from fontanel.records.ids import new_id
from fontanel.service.audited import acting_in, note_refusal
from fontanel.service.auth.request_rates import rate_headers

log = structlog.get_logger()


#: Methods that figures and logs name; anybody can make up others.
_METHODS = frozenset({"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"})
#: For pages that say nothing else: no scripts, no frames.
_CLOSED = b"default-src 'none'; frame-ancestors 'none'"


class Metrics:
    """The service's metrics, in a registry of its own.

    A process may have several services.
    """

    def __init__(self, waiting: Callable[[], float]) -> None:
        self.registry = CollectorRegistry()
        self.requests = Counter(
            "fontanel_requests",
            "Requests answered.",
            ["method", "route", "status"],
            registry=self.registry,
        )
        self.seconds = Histogram(
            "fontanel_request_seconds",
            "Time to answer a request.",
            ["route"],
            registry=self.registry,
        )
        self.answers = Counter(
            "fontanel_answers", "Questions asked, by outcome.", ["outcome"], registry=self.registry
        )
        self.answer_seconds = Histogram(
            "fontanel_answer_seconds", "Time to answer a question.", registry=self.registry
        )
        Gauge(
            "fontanel_documents_waiting",
            "Documents that wait to be indexed.",
            registry=self.registry,
        ).set_function(waiting)


class RequestLog:
    """Gives each request an id, and logs and counts it once it is answered."""

    def __init__(self, app: ASGIApp, metrics: Metrics, *, secure: bool) -> None:
        self._app = app
        self._secure = secure
        self._metrics = metrics

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        request_id = new_id("req")
        scope.setdefault("state", {})["request_id"] = request_id
        started = time.monotonic()
        status = 500

        async def send_marked(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                if (b"content-type", b"text/event-stream; charset=utf-8") in message["headers"]:
                    scope["state"]["streams"] = True
                names = {name.lower(): value for name, value in message.get("headers", [])}
                if (
                    names.get(b"content-type", b"").startswith(b"text/html")
                    and b"content-security-policy" not in names
                ):
                    message["headers"] = [
                        *message["headers"],
                        (b"content-security-policy", _CLOSED),
                    ]
                if self._secure:
                    message["headers"] = [
                        *message.get("headers", []),
                        (b"strict-transport-security", b"max-age=31536000"),
                    ]
                message["headers"] = [
                    *message.get("headers", []),
                    (b"x-request-id", request_id.encode()),
                    (b"x-content-type-options", b"nosniff"),
                    (b"referrer-policy", b"same-origin"),
                    *rate_headers(scope["state"]),
                ]
            await send(message)

        acting = acting_in(scope)
        headers = {name.decode("latin-1"): one.decode("latin-1") for name, one in scope["headers"]}
        try:
            with tracing.span(scope["method"], tracing.parent_of(headers)) as span:
                try:
                    with acting_as(acting):
                        await self._app(scope, receive, send_marked)
                finally:
                    _describe(span, scope, acting, status)
        finally:
            seconds = time.monotonic() - started
            route = getattr(scope.get("route"), "path", "other")
            method = scope["method"] if scope["method"] in _METHODS else "other"
            self._metrics.requests.labels(method, route, str(status)).inc()
            self._metrics.seconds.labels(route).observe(seconds)
            note_refusal(scope, acting, status)
            if not route.startswith("/health"):
                log.info(
                    "request",
                    request_id=request_id,
                    method=method,
                    route=route,
                    status=status,
                    seconds=round(seconds, 4),
                    team=acting.team_id,
                    actor=acting.id or None,
                )


def _describe(span: tracing.Span, scope: Scope, acting: Acting, status: int) -> None:
    """Name a request's span by its route, with the ids of who acts and where."""
    route = getattr(scope.get("route"), "path", "other")
    method = scope["method"] if scope["method"] in _METHODS else "other"
    span.name = f"{method} {route}"
    span.failed = status >= 500
    span.set(
        request=scope["state"]["request_id"],
        team=acting.team_id,
        actor=acting.id or None,
        streams=scope["state"].get("streams"),
    )
    span.attributes |= {
        "http.request.method": method,
        "http.route": route,
        "http.response.status_code": status,
    }
