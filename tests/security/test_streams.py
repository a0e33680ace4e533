"""Event streams: limits per caller, no delays for others, an end with the access."""

from __future__ import annotations

import asyncio
import os
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import httpx
import pytest

from fontanel import schemas as s
from fontanel.service.streaming.renewal import MAX_PER_CALLER
from tests import patient
from tests.conftest import STORM, Service, TeamSetup, new_team, until
from tests.service.kbs.test_watching import events, watched

CONSOLE = {"X-Fontanel-Console": "1"}


def test_a_caller_has_so_many_streams_and_closing_one_makes_room(team: TeamSetup, kb: str) -> None:
    url = f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}/events"
    headers = {"Authorization": f"Bearer {team.key}"}
    with ExitStack() as stack:
        streams = [watched(team, kb) for _ in range(MAX_PER_CALLER)]
        opened = [stack.enter_context(stream) for stream in streams]
        assert {next(stream)[0] for stream in opened} == {"kb"}
        refused = patient.get(url, headers=headers)
        assert refused.status_code == 429
        assert refused.json()["type"].endswith("too-many-streams")
        streams[0].__exit__(None, None, None)

        def free() -> bool:
            with patient.stream("GET", url, headers=headers) as response:
                return response.status_code == 200

        until(free)


async def _open(url: str, keys: list[str], each: int, then: Callable[[], None]) -> int:
    """Keep `each` streams per key open during an action; return how many there were."""
    opened = 0
    limits = httpx.Limits(max_connections=None)
    async with patient.AsyncClient(limits=limits, timeout=60) as client:
        stored: list[Any] = []
        for key in keys:
            for _ in range(each):
                request = client.build_request(
                    "GET", url, headers={"Authorization": f"Bearer {key}"}
                )
                response = await client.send(request, stream=True)
                stored.append(response)
                async for chunk in response.aiter_text():
                    opened += "event: kb" in chunk
                    break
        await asyncio.to_thread(then)
        for response in stored:
            await response.aclose()
    return opened


def test_many_open_streams_leave_other_requests_and_the_database_alone(tmp_path: Path) -> None:
    running = Service(tmp_path / "data").start()
    try:
        team = new_team(running)
        kb = team.client.create_kb("Rules").slug
        team.client.add_document(kb, STORM, "storm.md", wait=True)
        keys = [team.client.make_key(f"k{n}", "reader").secret for n in range(8)]

        def others() -> None:
            assert team.client.search(kb, "wind limit").hits
            with sqlite3.connect(running.data / "fontanel.db") as db:
                # No reader is in the way of resetting the log.
                until(lambda: db.execute("PRAGMA wal_checkpoint(TRUNCATE)").fetchone()[0] == 0)

        url = f"{running.url}/api/v1/teams/{team.slug}/kbs/{kb}/events"
        assert asyncio.run(_open(url, keys, MAX_PER_CALLER, others)) == 8 * MAX_PER_CALLER
    finally:
        running.stop()


@pytest.fixture
def person(team: TeamSetup, kb: str) -> Iterator[httpx.Client]:
    with patient.Client(
        base_url=f"{team.service.url}/api/v1", headers=CONSOLE, timeout=60
    ) as client:
        assert (
            client.post(
                "/session", json={"email": team.email, "password": team.password}
            ).status_code
            == 200
        )
        yield client


@pytest.mark.parametrize("act", ["sign out", "password", "removed", "team"])
def test_a_person_s_stream_ends_with_their_access(
    team: TeamSetup, kb: str, person: httpx.Client, act: str
) -> None:
    with person.stream("GET", f"/teams/{team.slug}/kbs/{kb}/events") as response:
        stream = events(response.iter_lines())
        assert next(stream)[0] == "kb"
        if act == "sign out":
            assert person.delete("/session").status_code == 204
        elif act == "password":
            with patient.Client(base_url=person.base_url, headers=CONSOLE) as other:
                other.post("/session", json={"email": team.email, "password": team.password})
                change = {"current": team.password, "new": "another-password-1"}
                assert other.put("/session/password", json=change).status_code == 204
        else:
            with team.service.operator() as operator:
                operator.use_team(team.slug)
                if act == "removed":
                    operator.remove_member(team.email)
                else:
                    operator.delete_team(team.slug)
        assert [name for name, _ in stream] == []


def test_a_key_s_streams_end_when_it_is_revoked(team: TeamSetup, storm: str) -> None:
    key = team.client.make_key("watcher", "reader")
    headers = {"Authorization": f"Bearer {key.secret}"}
    url = f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{storm}/events"
    with patient.stream("GET", url, headers=headers, timeout=60) as response:
        stream = events(response.iter_lines())
        assert next(stream)[0] == "kb"
        team.client.revoke_key(key.id)
        assert list(stream) == []


def test_an_answer_stops_when_the_link_it_came_by_is_revoked(
    team: TeamSetup, storm: str, model_server: str
) -> None:
    with team.service.operator() as operator:
        operator.create_model(
            s.ModelIn(name="slow-one", url=model_server, remote="slow", seconds=60)
        )
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=storm)], audience="link", model="slow-one")
    desk = team.client.create_desk("Harbour desk", settings)
    team.client.publish_desk(desk.id)
    link = team.client.make_desk_link(desk.id, "Notice board")
    headers = {
        "Authorization": f"Bearer {link.secret}",
        "X-Fontanel-Guest": "a guest's own secret",
        "Accept": "text/event-stream",
    }
    url = f"{team.service.url}/api/v1/teams/{team.slug}/desks/{desk.id}/ask"
    with patient.stream(
        "POST",
        url,
        json={"question": "At what gust does the quay crane stop?"},
        headers=headers,
        timeout=60,
    ) as r:
        stream = events(r.iter_lines())
        assert next(stream)[0] == "start"
        team.client.revoke_desk_link(desk.id, link.id)
        assert "finish" not in [name for name, _ in stream]


def test_streams_go_on_when_the_clock_is_set_back(tmp_path: Path) -> None:
    library = next(Path("/usr/lib").glob("*/faketime/libfaketimeMT.so.1"))
    clock = tmp_path / "clock"
    clock.write_text("+0")
    faked = {
        "LD_PRELOAD": str(library),
        "FAKETIME_TIMESTAMP_FILE": str(clock),
        "FAKETIME_NO_CACHE": "1",
        "FAKETIME_DONT_FAKE_MONOTONIC": "1",
    }
    running = Service(tmp_path / "data", faked).start()
    try:
        team = new_team(running)
        kb = team.client.create_kb("Rules").slug
        team.client.add_document(kb, b"# One\n\nThe gate is shut.", "one.md", wait=True)
        with watched(team, kb) as stream:
            assert next(stream)[0] == "kb"
            clock.write_text("-3600")
            assert os.path.exists(library)
            team.client.add_document(kb, b"# Two\n\nThe gate is open.", "two.md")
            assert any(name == "document" and data["name"] == "two.md" for name, data in stream)
    finally:
        running.stop()
