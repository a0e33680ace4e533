"""The protocol on standard input and output, for programs that start their tools themselves."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

import httpx
from mcp.server.stdio import stdio_server

from fontanel.client import AsyncClient
from fontanel.facts import TOOL_HEADER
from fontanel.tools.server import tool_server
from fontanel.tools.subscriptions import Context


class _Kept(httpx.AsyncBaseTransport):
    """Connections that outlast the clients that use them."""

    def __init__(self) -> None:
        self._transport = httpx.AsyncHTTPTransport()

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        return await self._transport.handle_async_request(request)

    async def end(self) -> None:
        """Close the connections."""
        await self._transport.aclose()


async def serve_stdio(url: str, key: str, team: str | None) -> None:
    """Serve one client on standard input and output, until it leaves.

    Args:
        url: The address of the service.
        key: The access key that everything is done with.
        team: The short name of the key's team.
    """
    transport = _Kept()

    @asynccontextmanager
    async def connect(context: Context, tool: str) -> AsyncIterator[AsyncClient]:
        headers = {TOOL_HEADER: tool}
        async with AsyncClient(
            url, key=key, team=team, headers=headers, transport=transport
        ) as client:
            yield client

    server = tool_server(connect)
    try:
        async with stdio_server() as (incoming, outgoing):
            await server.run(incoming, outgoing, server.create_initialization_options())
    finally:
        await transport.end()
