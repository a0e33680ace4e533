"""The Model Context Protocol at `/mcp`, for programs with an access key.

A tool's requests to the API are made in this process with the caller's own key, so that they are
checked, limited and recorded like any other.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import AbstractAsyncContextManager, asynccontextmanager
from typing import Any
from urllib.parse import urlsplit

from mcp.server.auth.middleware.bearer_auth import AuthenticatedUser
from mcp.server.auth.provider import AccessToken
from mcp.server.streamable_http_manager import StreamableHTTPSessionManager
from starlette.requests import HTTPConnection
from starlette.types import ASGIApp, Receive, Scope, Send

from fontanel.client import AsyncClient
from fontanel.engine.runtime.runtime import Runtime
from fontanel.facts import TOOL_HEADER
from fontanel.records.tables import Key
from fontanel.service.auth.access import credentials_of, look_up_caller
from fontanel.service.bodies import JSON_BYTES
from fontanel.service.in_process import AppTransport
from fontanel.service.problems import ApiError
from fontanel.service.threads import run_briefly
from fontanel.tools.server import tool_server
from fontanel.tools.subscriptions import Context

PATH = "/mcp"
#: Sessions of clients before the 2026-07-28 revision: how many, and seconds until one ends.
_MAX_SESSIONS, _IDLE = 2_000, 900.0

_LOOPBACK = ("127.0.0.1", "::1", "localhost")


class ToolEndpoint:
    """Answers requests of the protocol."""

    def __init__(self, runtime: Runtime | None) -> None:
        self._runtime = runtime
        self._app: ASGIApp | None = None
        self._running: set[asyncio.Task[None]] = set()
        self._manager = StreamableHTTPSessionManager(
            tool_server(self._connect),
            max_request_body_size=JSON_BYTES,
            max_sessions=_MAX_SESSIONS,
            session_idle_timeout=_IDLE,
        )

    def running(self, app: ASGIApp) -> AbstractAsyncContextManager[None]:
        """Answer while the application runs, whose API the tools use."""
        self._app = app
        return self._manager.run()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        key = await self._key(HTTPConnection(scope))
        # A session belongs to the key that opened it.
        token = AccessToken(token="", client_id=key.id, scopes=[], claims={"team": key.team_id})
        scope["user"] = AuthenticatedUser(token)
        await self._manager.handle_request(scope, receive, send)

    async def _key(self, connection: HTTPConnection) -> Key:
        """Return the caller's key.

        Raises:
            ApiError: there is none, or a page of another site sent the request.
        """
        assert self._runtime is not None
        if _from_another_site(connection, self._runtime.settings.origin):
            raise ApiError(
                "cross-site",
                "The request came from a page of another site.",
                advice="Send it from a program.",
            )
        caller = await run_briefly(look_up_caller, connection, self._runtime)
        if caller.key is None:
            raise ApiError(
                "not-signed-in",
                "Tools need a key.",
                advice="Send one as 'Authorization: Bearer <key>'.",
                headers={"WWW-Authenticate": "Bearer"},
            )
        return caller.key

    @asynccontextmanager
    async def _connect(self, context: Context, tool: str) -> AsyncIterator[AsyncClient]:
        """Open a client with the key of the request."""
        assert self._app is not None
        request: Any = context.request
        scope = {"client": request.scope.get("client"), "server": request.scope.get("server")}
        async with AsyncClient(
            str(request.base_url),
            key=credentials_of(request).bearer,
            team=request.user.access_token.claims["team"],
            retry_seconds=0,
            headers={TOOL_HEADER: tool},
            transport=AppTransport(self._app, scope, self._running),
        ) as client:
            yield client


def _from_another_site(connection: HTTPConnection, own: str) -> bool:
    """Return whether a page sent the request that is not this service's, at `own` or on loopback.

    Comparing with the host alone would let in a site whose name now leads to this machine.
    """
    origin = connection.headers.get("origin")
    if origin is None:
        return False
    parts = urlsplit(origin)
    if parts.hostname in _LOOPBACK:
        return parts.netloc != connection.headers.get("host")
    return parts.netloc != urlsplit(own).netloc
