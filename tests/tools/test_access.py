"""Who may use the tools over HTTP, and what a client that leaves stops."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator

import httpx
import pytest
from mcp import Client, MCPError

from fontanel import schemas as s
from tests import patient
from tests.conftest import Service, TeamSetup, new_team, until
from tests.tools.conftest import TRANSPORTS, connected

ACCEPT = {"Accept": "application/json, text/event-stream", "Content-Type": "application/json"}
QUESTION = "At what gust does the quay crane stop?"


def initialize(service: Service, **headers: str) -> httpx.Response:
    body = {
        "jsonrpc": "2.0",
        "id": 1,
        "method": "initialize",
        "params": {
            "protocolVersion": "2025-11-25",
            "capabilities": {},
            "clientInfo": {"name": "tests", "version": "1"},
        },
    }
    return patient.post(f"{service.url}/mcp", json=body, headers={**ACCEPT, **headers})


def bearer(key: str) -> str:
    return f"Bearer {key}"


def test_a_key_is_needed(service: Service, team: TeamSetup) -> None:
    for headers in ({}, {"Authorization": "Bearer fk_unknown"}, {"Authorization": "Basic eDp5"}):
        response = initialize(service, **headers)
        assert response.status_code == 401
        assert response.headers["www-authenticate"] == "Bearer"
        assert response.headers["content-type"] == "application/problem+json"
    with service.operator() as operator:
        cookies = dict(operator._http.cookies)
    response = patient.post(f"{service.url}/mcp", json={}, headers=ACCEPT, cookies=cookies)
    assert response.status_code in (401, 403)
    assert initialize(service, Authorization=bearer(team.key)).status_code == 200


def test_pages_of_other_sites_are_refused(service: Service, team: TeamSetup) -> None:
    key = bearer(team.key)
    response = initialize(service, Authorization=key, Origin="http://elsewhere.example")
    assert response.status_code == 403
    assert initialize(service, Authorization=key, Origin=service.url).status_code == 200


def test_a_session_belongs_to_its_key(service: Service, team: TeamSetup) -> None:
    session = initialize(service, Authorization=bearer(team.key)).headers["mcp-session-id"]
    other = new_team(service)
    body = {"jsonrpc": "2.0", "id": 2, "method": "tools/list"}
    headers = {**ACCEPT, "Mcp-Session-Id": session, "Mcp-Protocol-Version": "2025-11-25"}
    url = f"{service.url}/mcp"
    foreign = patient.post(url, json=body, headers={**headers, "Authorization": bearer(other.key)})
    assert foreign.status_code == 404
    own = patient.post(url, json=body, headers={**headers, "Authorization": bearer(team.key)})
    assert own.status_code == 200
    assert "list_knowledge_bases" in own.text


def test_a_revoked_key_ends_a_session(service: Service, team: TeamSetup, storm: str) -> None:
    key = team.client.make_key("agent", "reader")

    async def work() -> None:
        async with connected(service, key.secret, "http-2025") as client:
            assert not (await client.call_tool("search", {"question": QUESTION})).is_error
            await asyncio.to_thread(team.client.revoke_key, key.id)
            with pytest.raises(MCPError, match="error response"):
                await client.call_tool("search", {"question": QUESTION})

    asyncio.run(work())


@pytest.mark.parametrize(
    "content",
    [b"", b"{", b"[]", b'{"jsonrpc": "2.0"}', b"[" * 10_000, b'{"a":' * 200 + b"1" + b"}" * 200],
)
def test_nonsense_is_refused(service: Service, team: TeamSetup, content: bytes) -> None:
    headers = {**ACCEPT, "Authorization": bearer(team.key)}
    response = patient.post(f"{service.url}/mcp", content=content, headers=headers)
    assert 400 <= response.status_code < 500


def test_what_is_too_large_is_refused(service: Service, team: TeamSetup) -> None:
    headers = {**ACCEPT, "Authorization": bearer(team.key)}
    content = b'"' + b"x" * 2_000_000
    response = httpx.post(f"{service.url}/mcp", content=content, headers=headers, timeout=60)
    assert response.status_code == 413


@pytest.fixture
def slow_desk(service: Service, team: TeamSetup, storm: str, model_server: str) -> Iterator[str]:
    name = f"slow of {team.slug}"
    with service.operator() as operator:
        operator.create_model(s.ModelIn(name=name, url=model_server, remote="slow", seconds=60))
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=storm)], model=name)
    desk = team.client.create_desk("Slow desk", settings)
    team.client.publish_desk(desk.id)
    yield desk.slug
    team.client.delete_desk(desk.id)
    with service.operator() as operator:
        operator.delete_model(name)


@pytest.mark.parametrize("transport", TRANSPORTS)
def test_a_call_that_is_cancelled_stops_the_work(
    service: Service, team: TeamSetup, slow_desk: str, transport: str
) -> None:
    async def work() -> None:
        async with connected(service, team.key, transport) as client:
            started = asyncio.Event()

            async def report(progress: float, total: float | None, message: str | None) -> None:
                started.set()

            arguments = {"question": QUESTION, "desk": slow_desk}
            call = asyncio.create_task(client.call_tool("ask", arguments, progress_callback=report))
            await started.wait()
            call.cancel()
            with pytest.raises(asyncio.CancelledError):
                await call
            # The connection is still good.
            assert (await _names(client)) >= {"ask", "search"}

    asyncio.run(work())
    desk = team.client.show_desk(slow_desk)
    until(lambda: [row.unfinished for row in team.client.usage("model", desk=desk.id).rows] == [1])


async def _names(client: Client) -> set[str]:
    return {tool.name for tool in (await client.list_tools()).tools}
