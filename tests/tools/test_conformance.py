"""The conformance tests of the Model Context Protocol that need no special tools."""

from __future__ import annotations

import json
import platform
import subprocess
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import httpx
import pytest
from starlette.applications import Starlette
from starlette.background import BackgroundTask
from starlette.requests import Request
from starlette.responses import StreamingResponse
from starlette.routing import Route

from tests.conftest import ROOT, TeamSetup

MODULES = ROOT / "tests" / "conformance" / "node_modules"
NODE = MODULES / f"node-linux-{'arm64' if platform.machine() == 'aarch64' else 'x64'}/bin/node"
SUITE = MODULES / "@modelcontextprotocol/conformance/dist/index.js"
#: The others call tools, resources and prompts of a server that was made for them.
SCENARIOS = (
    "server-initialize",
    "ping",
    "tools-list",
    "resources-list",
    "server-sse-multiple-streams",
    "dns-rebinding-protection",
)


def with_key(url: str, key: str) -> Starlette:
    """Return a proxy that adds a key to each request, as the tests cannot."""
    client = httpx.AsyncClient(timeout=60)

    @asynccontextmanager
    async def lifespan(app: Starlette) -> AsyncIterator[None]:
        async with client:
            yield

    async def forward(request: Request) -> StreamingResponse:
        headers = {**request.headers, "authorization": f"Bearer {key}"}
        content = await request.body()
        sent = client.build_request(request.method, url, headers=headers, content=content)
        reply = await client.send(sent, stream=True)
        return StreamingResponse(
            reply.aiter_raw(),
            reply.status_code,
            reply.headers,
            background=BackgroundTask(reply.aclose),
        )

    methods = ["GET", "POST", "DELETE"]
    return Starlette(routes=[Route("/mcp", forward, methods=methods)], lifespan=lifespan)


@pytest.mark.parametrize("scenario", SCENARIOS)
def test_the_server_conforms(
    scenario: str, team: TeamSetup, storm: str, serve: Callable[[Any], str], tmp_path: Path
) -> None:
    url = serve(with_key(f"{team.service.url}/mcp", team.key))
    ran = subprocess.run(
        [NODE, SUITE, "server", "--url", f"{url}/mcp", "--scenario", scenario, "-o", tmp_path],
        capture_output=True,
        text=True,
        check=False,
    )
    found = [one for path in tmp_path.rglob("checks.json") for one in json.loads(path.read_text())]
    failed = [(one["id"], one.get("errorMessage")) for one in found if one["status"] != "SUCCESS"]
    assert failed == []
    assert found, ran.stderr
