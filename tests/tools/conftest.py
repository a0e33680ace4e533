"""Clients of the Model Context Protocol, by its own library, over each transport."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import AbstractAsyncContextManager, asynccontextmanager
from typing import Any

import httpx2
import pytest
from mcp import Client, StdioServerParameters
from mcp.client.stdio import stdio_client
from mcp.client.streamable_http import streamable_http_client

from fontanel.client import Client as ServiceClient
from tests.conftest import Service, TeamSetup
from tests.processes.forked import launcher

#: How a client connects: over HTTP in the present and the former revision, or by a process.
TRANSPORTS = ("http", "http-2025", "stdio")
Connected = Callable[..., AbstractAsyncContextManager[Client]]


@asynccontextmanager
async def connected(
    service: Service, key: str, transport: str = "http", **more: Any
) -> AsyncIterator[Client]:
    """Connect with a key."""
    if transport == "stdio":
        parameters = StdioServerParameters(
            command=str(launcher()),
            args=["tools"],
            env={"FONTANEL_URL": service.url, "FONTANEL_KEY": key},
        )
        async with Client(stdio_client(parameters), **more) as client:
            yield client
        return
    headers = {"Authorization": f"Bearer {key}"}
    mode = "legacy" if transport == "http-2025" else "auto"
    async with (
        httpx2.AsyncClient(headers=headers, timeout=60) as http,
        Client(
            streamable_http_client(f"{service.url}/mcp", http_client=http), mode=mode, **more
        ) as client,
    ):
        yield client


def run(
    team: TeamSetup,
    work: Callable[[Client], Awaitable[None]],
    transport: str = "http",
    key: str | None = None,
    **more: Any,
) -> None:
    """Do some work with a client, by the team's own key if none is given."""

    async def all_of_it() -> None:
        async with connected(team.service, key or team.key, transport, **more) as client:
            await work(client)

    asyncio.run(all_of_it())


@pytest.fixture
def notices(team: TeamSetup, storm: str) -> ServiceClient:
    """A second knowledge base in the team."""
    client = team.client
    kb = client.create_kb("Notices").slug
    client.write_document(kb, "canteen.md", "# Canteen\n\nThe canteen opens at six.\n")
    client.wait_for_document(kb, "canteen.md")
    return client
