"""Request bodies: read from known callers only, limited in size, time and nesting.

Without this the framework reads and parses a body of any size before it asks who sent it.
"""

from __future__ import annotations

import asyncio
import json
import re
import time
from dataclasses import dataclass
from typing import Any

from fastapi.routing import APIRoute
from sqlalchemy import select
from starlette.requests import HTTPConnection
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from fontanel.engine.runtime.runtime import Runtime
from fontanel.records.ids import hash_secret
from fontanel.records.tables import DeskLink, now
from fontanel.service.auth.access import FOUND_CALLER, credentials_of, find_caller
from fontanel.service.problems import ApiError, disk_full, has_room, problem
from fontanel.service.threads import run_briefly

_MB = 1_000_000
#: The maximum bytes of JSON, except for the routes below.
JSON_BYTES = _MB
#: Routes that are open to people who are not signed in: their bodies are small.
_OPEN_BYTES = 64_000
#: Where callers are authenticated before a body is read.
_GUARDED = ("/api/", "/mcp/")
_OPEN = re.compile(
    r"/api/v1/(?:session(?:/provider/logout)?|invitations/(?:open|accept)|passwords|signals/[^/]+|channels/[^/]+/messages)"
)
_LARGER_JSON = (
    (re.compile(r"/api/v1/teams/[^/]+/kbs/[^/]+/sources/[^/]+/documents"), 16 * _MB),
    (re.compile(r"/api/v1/teams/[^/]+/kbs/[^/]+/(?:written|documents/.+/written)"), 13 * _MB),
    (re.compile(r"/api/v1/teams/[^/]+/kbs/[^/]+/editions/compare"), 2 * _MB),
    (re.compile(r"/api/v1/teams/[^/]+/kbs/[^/]+/approved/import"), 8 * _MB),
)
_UPLOADS = re.compile(r"/api/v1/teams/[^/]+/(?:kbs/[^/]+/(?:documents|preview)|packs)")

#: The minimum average bytes per second of a body, after a few seconds of grace.
_MIN_RATE = 2_000
_COMPLETE = -1.0
#: How much of a rejected body is discarded, so that its sender reads the reply.
_DRAINED_OF_STRANGERS, _DRAINED, _DRAIN_SECONDS = 2 * _MB, 4 * 1024**3, 5.0
#: JSON that is larger than this is checked in a thread.
_LARGE = 32_000
MAX_DEPTH, MAX_BRACKETS = 40, 200_000


class BodyRefused(Exception):
    """The body is rejected, with a problem."""

    def __init__(self, error: ApiError) -> None:
        super().__init__(error.detail)
        self.error = error


class BodyGate:
    """Authenticates the caller of each request with a body, and limits the body."""

    def __init__(
        self, app: ASGIApp, runtime: Runtime | None, max_upload: int, grace: float
    ) -> None:
        self._app = app
        self._workshop = runtime
        self._max_upload = max_upload
        self._grace = grace

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        connection = HTTPConnection(scope)
        length = connection.headers.get("content-length", "")
        if length in ("", "0") and "transfer-encoding" not in connection.headers:
            await self._app(scope, receive, send)
            return
        existing = False
        body: _Body | None = None
        try:
            existing = await self._authenticate(connection, scope)
            if self._workshop is not None and not has_room(self._workshop.settings):
                raise BodyRefused(disk_full(self._workshop.settings))
            limit = self._limit(scope["path"], connection.headers.get("content-type", ""))
            if length.isdigit() and int(length) > limit:
                raise BodyRefused(_too_large(limit))
            body = _Body(receive, limit, self._grace)
            if not _is_json(connection.headers.get("content-type", "")):
                await self._pass_on(scope, body, send)
                return
            data = await body.whole()
            await (run_briefly(check_json, data) if len(data) > _LARGE else _checked(data))
        except BodyRefused as refused:
            expects = connection.headers.get("expect", "").lower() == "100-continue"
            # After the whole body nothing follows that could be waited for.
            if not expects and not (body is not None and body.complete):
                await _drain(receive, signed_in=existing)
            await _refuse(scope, send, refused.error)
            return
        await self._app(scope, _Replay(data, receive), send)

    async def _authenticate(self, connection: HTTPConnection, scope: Scope) -> bool:
        """Return whether the caller is known; strangers may only use open routes.

        Raises:
            BodyRefused: a stranger elsewhere.
        """
        path = scope["path"]
        if (
            self._workshop is None
            or not f"{path}/".startswith(_GUARDED)
            or _OPEN.fullmatch(path.rstrip("/"))
        ):
            return False
        try:
            await run_briefly(self._look_up, connection, self._workshop)
        except ApiError as error:
            raise BodyRefused(error) from error
        return True

    def _look_up(self, connection: HTTPConnection, runtime: Runtime) -> None:
        credentials = credentials_of(connection)
        with runtime.records.reading() as session:
            if credentials.bearer is not None and credentials.bearer.startswith("dl_"):
                # Which desk the link opens is for the route to say.
                link = select(DeskLink).where(
                    DeskLink.secret_hash == hash_secret(credentials.bearer)
                )
                result = session.scalar(link.where(DeskLink.revoked_at.is_(None)))
                if result is not None and (result.expires_at is None or result.expires_at > now()):
                    return
            # Kept for the route, which would look the same up again.
            connection.scope["state"][FOUND_CALLER] = find_caller(
                session, connection, runtime, credentials
            )

    def _limit(self, path: str, content_type: str) -> int:
        path = path.rstrip("/")
        if not f"{path}/".startswith(_GUARDED) or _OPEN.fullmatch(path):
            return _OPEN_BYTES
        if content_type.lower().startswith("multipart/"):
            return self._max_upload if _UPLOADS.fullmatch(path) else JSON_BYTES
        return next((limit for route, limit in _LARGER_JSON if route.fullmatch(path)), JSON_BYTES)

    async def _pass_on(self, scope: Scope, body: _Body, send: Send) -> None:
        """Let the application read the body as it arrives.

        Reject it when too large or slow.
        """
        answered = False

        async def send_noted(message: Message) -> None:
            nonlocal answered
            if body.refused is not None and not answered:
                return  # whatever the application makes of the broken-off body
            answered = True
            await send(message)

        try:
            await self._app(scope, body, send_noted)
        except BodyRefused:
            if answered:
                raise
        if body.refused is not None and not answered:
            raise body.refused


@dataclass(slots=True)
class _Body:
    """The body as an ASGI `receive` that raises BodyRefused beyond its limits."""

    receive: Receive
    limit: int
    grace: float
    size: int = 0
    began: float = 0.0
    refused: BodyRefused | None = None

    @property
    def complete(self) -> bool:
        """Whether all of it was received."""
        return self.began == _COMPLETE

    async def __call__(self) -> Message:
        if self.complete:
            return await self.receive()
        self.began = self.began or time.monotonic()
        left = self.began + self.grace + self.size / _MIN_RATE - time.monotonic()
        try:
            message = await asyncio.wait_for(self.receive(), max(left, 0.0))
        except TimeoutError as error:
            problem_of = ApiError(
                "too-slow",
                "The request's body arrived too slowly.",
                advice="Try again over a faster connection.",
            )
            self.refused = BodyRefused(problem_of)
            raise self.refused from error
        if message["type"] == "http.request":
            self.size += len(message.get("body", b""))
            if self.size > self.limit:
                self.refused = BodyRefused(_too_large(self.limit))
                raise self.refused
            if not message.get("more_body"):
                # The time of the response does not count against the sender.
                self.began = _COMPLETE
        return message

    async def whole(self) -> bytes:
        parts: list[bytes] = []
        while True:
            message = await self()
            if message["type"] != "http.request":
                return b"".join(parts)  # the sender left
            parts.append(message.get("body", b""))
            if not message.get("more_body"):
                return b"".join(parts)


class _Replay:
    """Replays a body that was read before, then passes on what follows."""

    def __init__(self, data: bytes, receive: Receive) -> None:
        self._data: bytes | None = data
        self._receive = receive

    async def __call__(self) -> Message:
        if self._data is None:
            return await self._receive()
        data, self._data = self._data, None
        return {"type": "http.request", "body": data, "more_body": False}


def _is_json(content_type: str) -> bool:
    kind = content_type.partition(";")[0].strip().lower()
    return kind.endswith(("/json", "+json"))


async def _checked(data: bytes) -> None:
    check_json(data)


def check_json(data: bytes) -> None:
    """Check the nesting of JSON, and that its values can be stored.

    NaN and lone surrogates cannot. What is not JSON is left to the route.

    Raises:
        BodyRefused: it does not pass.
    """
    brackets = _STRINGS.sub(b"", data).translate(None, _NOT_BRACKETS)
    depth = deepest = 0
    if len(brackets) <= MAX_BRACKETS:
        for bracket in brackets:
            depth += 1 if bracket in b"[{" else -1
            deepest = max(deepest, depth)
    if len(brackets) > MAX_BRACKETS or deepest > MAX_DEPTH:
        raise BodyRefused(
            ApiError(
                "invalid", f"The JSON is nested more than {MAX_DEPTH} deep, or has too many parts."
            )
        )
    if b"NaN" in data or b"Infinity" in data or _SURROGATE.search(data):
        try:
            value = json.loads(data)
        except (ValueError, RecursionError):
            return
        if (field := _unusable(value)) is not None:
            detail = (
                f"{field}: it has a number or a character that cannot be stored (NaN, infinity,"
                " half a character)."
            )
            raise BodyRefused(ApiError("invalid", detail, field=field))


_STRINGS = re.compile(rb'"(?:[^"\\]|\\.)*+"', re.DOTALL)
_NOT_BRACKETS = bytes(set(range(256)) - set(b"[]{}"))
_SURROGATE = re.compile(rb"\\u[dD][89a-fA-F]")


def _unusable(value: Any) -> str | None:
    """Return the path to a value that is not Unicode text or a finite number, or None."""
    todo: list[tuple[str, Any]] = [("", value)]
    while todo:
        path, item = todo.pop()
        if isinstance(item, dict):
            for key, inner in item.items():
                plain = key.encode("utf-8", "replace").decode()
                todo += [(f"{path}.{plain}".lstrip("."), part) for part in (key, inner)]
        elif isinstance(item, list):
            todo += [(f"{path}.{number}".lstrip("."), inner) for number, inner in enumerate(item)]
        elif isinstance(item, str):
            if not item.isascii() and any("\ud800" <= letter <= "\udfff" for letter in item):
                return path or "body"
        elif isinstance(item, float) and (item != item or item in (float("inf"), float("-inf"))):
            return path or "body"
    return None


def _too_large(limit: int) -> ApiError:
    size = f"{limit // _MB} MB" if limit >= _MB else f"{limit // 1000} kB"
    return ApiError(
        "too-large",
        f"At most {size} are taken here at once.",
        advice="Send it in parts. For files, the operator can raise FONTANEL_MAX_UPLOAD_MB.",
    )


async def _drain(receive: Receive, *, signed_in: bool) -> None:
    """Read and discard more of the body.

    A sender that only writes would not see the reply.
    """
    limit, drained, began = _DRAINED if signed_in else _DRAINED_OF_STRANGERS, 0, time.monotonic()
    try:
        while drained < limit:
            left = (
                _DRAIN_SECONDS + (drained / _MB if signed_in else 0.0) - (time.monotonic() - began)
            )
            message = await asyncio.wait_for(receive(), max(left, 0.0))
            drained += len(message.get("body", b""))
            if message["type"] != "http.request" or not message.get("more_body"):
                return
    except TimeoutError:
        return


async def _refuse(scope: Scope, send: Send, error: ApiError) -> None:
    result = problem(
        error.kind, error.detail, scope["state"]["request_id"], error.field, error.advice
    )
    body = json.dumps(result.model_dump()).encode()
    headers = [
        (b"content-type", b"application/problem+json"),
        (b"content-length", str(len(body)).encode()),
        (b"connection", b"close"),
        *((name.lower().encode(), value.encode()) for name, value in (error.headers or {}).items()),
    ]
    await send({"type": "http.response.start", "status": result.status, "headers": headers})
    await send({"type": "http.response.body", "body": body})


class BodyRoute(APIRoute):
    """A route that parses large JSON in a thread, so that other requests continue."""

    def get_route_handler(self) -> Any:
        handler = super().get_route_handler()

        async def handle(request: Any) -> Any:
            body = (
                await request.body() if _is_json(request.headers.get("content-type", "")) else b""
            )
            if len(body) > _LARGE:
                request._json = await run_briefly(_loads, body)
            return await handler(request)

        return handle


def _loads(body: bytes) -> Any:
    try:
        return json.loads(body)
    except RecursionError as error:
        raise json.JSONDecodeError("nested too deeply", "", 0) from error
