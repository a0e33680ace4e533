"""What stands around every request: its id, its log line and metrics, and the limit on its size."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from contextlib import suppress

import structlog
from prometheus_client import CollectorRegistry, Counter, Gauge, Histogram
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from fontanel.records.ids import new_id
from fontanel.service.problems import problem

log = structlog.get_logger()

#: How much of a refused upload is read and thrown away, so that its sender gets to read the refusal.
_MOST_DRAINED = 4 * 1024**3


class Metrics:
    """The service's own figures, in a registry of its own so that several services can live in one process."""

    def __init__(self, waiting: Callable[[], float]) -> None:
        self.registry = CollectorRegistry()
        self.requests = Counter(
            "fontanel_requests", "Requests answered.", ["method", "route", "status"], registry=self.registry
        )
        self.seconds = Histogram(
            "fontanel_request_seconds", "Time to answer a request.", ["route"], registry=self.registry
        )
        self.answers = Counter("fontanel_answers", "Questions asked, by outcome.", ["outcome"], registry=self.registry)
        Gauge("fontanel_documents_waiting", "Documents that wait to be indexed.", registry=self.registry).set_function(
            waiting
        )


class RequestLog:
    """Gives each request an id, and logs and counts it once it is answered."""

    def __init__(self, app: ASGIApp, metrics: Metrics) -> None:
        self._app = app
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
                message["headers"] = [
                    *message.get("headers", []),
                    (b"x-request-id", request_id.encode()),
                    (b"x-content-type-options", b"nosniff"),
                    (b"referrer-policy", b"same-origin"),
                ]
            await send(message)

        try:
            await self._app(scope, receive, send_marked)
        finally:
            seconds = time.monotonic() - started
            route = getattr(scope.get("route"), "path", "other")
            self._metrics.requests.labels(scope["method"], route, str(status)).inc()
            self._metrics.seconds.labels(route).observe(seconds)
            if not route.startswith("/health"):
                log.info(
                    "request", request_id=request_id, method=scope["method"], route=route, status=status,
                    seconds=round(seconds, 4),
                )  # fmt: skip


class _TooLarge(Exception):
    """Breaks off the reading of a body that has passed the limit."""


class BodyLimit:
    """Refuses bodies over the limit with a 413 problem, whether or not their length was announced."""

    def __init__(self, app: ASGIApp, most_bytes: int) -> None:
        self._app = app
        self._most = most_bytes

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        headers = dict(scope["headers"])
        announced = headers.get(b"content-length", b"")
        if announced.isdigit() and int(announced) > self._most:
            if headers.get(b"expect", b"").lower() != b"100-continue":
                await self._drain(receive)
            await self._refuse(scope, send)
            return
        taken = 0
        over = answered = False

        async def receive_counted() -> Message:
            nonlocal taken, over
            message = await receive()
            if message["type"] == "http.request":
                taken += len(message.get("body", b""))
                if taken > self._most:
                    over = True
                    raise _TooLarge
            return message

        async def send_noted(message: Message) -> None:
            nonlocal answered
            if over and not answered:
                return  # whatever the application makes of the broken-off body
            answered = True
            await send(message)

        with suppress(_TooLarge):
            await self._app(scope, receive_counted, send_noted)
        if over and not answered:
            await self._drain(receive)
            await self._refuse(scope, send)

    async def _drain(self, receive: Receive) -> None:
        drained = 0
        while drained < _MOST_DRAINED:
            message = await receive()
            drained += len(message.get("body", b""))
            if message["type"] != "http.request" or not message.get("more_body"):
                return

    async def _refuse(self, scope: Scope, send: Send) -> None:
        most = self._most // 1_000_000
        found = problem(
            "too-large", f"At most {most} MB are taken at once.", scope["state"]["request_id"],
            advice="Split the file, or ask the operator to raise FONTANEL_MOST_UPLOAD_MB.",
        )  # fmt: skip
        body = json.dumps(found.model_dump()).encode()
        headers = [(b"content-type", b"application/problem+json"), (b"content-length", str(len(body)).encode())]
        await send({"type": "http.response.start", "status": 413, "headers": headers})
        await send({"type": "http.response.body", "body": body})
