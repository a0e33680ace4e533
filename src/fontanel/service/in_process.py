"""Requests to the application within its own process, by the client library."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Mapping
from typing import Any

import httpx
import structlog
from starlette.types import ASGIApp, Message

log = structlog.get_logger()

#: Parts of a response that wait until they are read.
_WAITING = 16


class AppTransport(httpx.AsyncBaseTransport):
    """Sends requests to an ASGI application, and streams its responses.

    When a response is not read to its end, the application sees that the client has left, as
    when a connection closes.

    Args:
        app: The application.
        scope: What its requests have besides what they say, such as the client's address.
        running: Where the tasks of requests are kept until they end.
    """

    def __init__(
        self, app: ASGIApp, scope: Mapping[str, Any], running: set[asyncio.Task[None]]
    ) -> None:
        self._app = app
        self._scope = scope
        self._running = running

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        exchange = _Exchange(await request.aread())
        scope = {
            **self._scope,
            "type": "http",
            "http_version": "1.1",
            "method": request.method,
            "scheme": request.url.scheme,
            "path": request.url.path,
            "raw_path": request.url.raw_path.partition(b"?")[0],
            "query_string": request.url.query,
            "root_path": "",
            "headers": [(name.lower(), value) for name, value in request.headers.raw],
            "state": {},
        }
        task = asyncio.create_task(exchange.run(self._app, scope))
        self._running.add(task)
        task.add_done_callback(self._running.discard)
        try:
            status, headers = await exchange.head()
        except BaseException:
            await exchange.aclose()
            raise
        return httpx.Response(status, headers=headers, stream=exchange)


class _Exchange(httpx.AsyncByteStream):
    """One request and its response."""

    def __init__(self, body: bytes) -> None:
        self._body: bytes | None = body
        self._left = asyncio.Event()
        self._sent: asyncio.Queue[Message | None] = asyncio.Queue(_WAITING)

    async def run(self, app: ASGIApp, scope: dict[str, Any]) -> None:
        """Have the application answer; its errors are logged, as those of other requests."""
        try:
            await app(scope, self._receive, self._send)
        except Exception:
            if not self._left.is_set():
                log.exception("request failed", path=scope["path"])
        finally:
            if not self._left.is_set():
                await self._sent.put(None)

    async def _receive(self) -> Message:
        if self._body is not None:
            body, self._body = self._body, None
            return {"type": "http.request", "body": body, "more_body": False}
        await self._left.wait()
        return {"type": "http.disconnect"}

    async def _send(self, message: Message) -> None:
        if self._left.is_set():
            raise OSError("the client has left")
        await self._sent.put(message)

    async def head(self) -> tuple[int, list[tuple[bytes, bytes]]]:
        """Return the status and the headers of the response.

        Raises:
            httpx.RemoteProtocolError: the application gave none.
        """
        message = await self._sent.get()
        if message is None or message["type"] != "http.response.start":
            raise httpx.RemoteProtocolError("The service failed to respond.")
        return message["status"], list(message["headers"])

    async def __aiter__(self) -> AsyncIterator[bytes]:
        while (message := await self._sent.get()) is not None:
            if message["type"] != "http.response.body":
                continue
            if body := message.get("body"):
                yield body
            if not message.get("more_body"):
                return

    async def aclose(self) -> None:
        """Tell the application that nobody reads on; it ends by itself."""
        self._left.set()
        # One that waits for room to send sees now that nobody is there.
        while not self._sent.empty():
            self._sent.get_nowait()
