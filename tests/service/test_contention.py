"""Requests wait for no other request's lock, and a stop waits for no answer."""

from __future__ import annotations

import asyncio
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import httpx
import pytest
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from fontanel import schemas as s
from fontanel.client import Client, ServiceFailed
from fontanel.engine.notices.webhooks import signed_headers
from tests.conftest import STORM, Service, new_team


@contextmanager
def locked(service: Service) -> Iterator[None]:
    """Hold the write lock of the records, as a long transaction would."""
    connection = sqlite3.connect(service.data / "fontanel.db", isolation_level=None, timeout=30)
    connection.execute("BEGIN IMMEDIATE")
    try:
        yield
    finally:
        connection.execute("ROLLBACK")
        connection.close()


@pytest.fixture
def alone(tmp_path: Path) -> Iterator[Service]:
    """A service of its own: others would wait for the lock too."""
    result = Service(tmp_path / "data", {"FONTANEL_SOURCE_ROOTS": str(tmp_path)}).start()
    yield result
    result.stop()


def test_readers_are_answered_while_writers_wait(alone: Service) -> None:
    team = new_team(alone)
    with ThreadPoolExecutor(60) as writers:
        with locked(alone):
            created = [writers.submit(team.client.create_kb, f"Base {i}") for i in range(60)]
            with Client(alone.url, team.key, team.slug, timeout=30, retry_seconds=0) as reader:
                for _ in range(40):
                    reader.list_kbs()
            assert not any(future.done() for future in created)
        assert len({future.result().slug for future in created}) == 60


def test_a_signal_that_waits_for_the_lock_blocks_nobody(alone: Service, tmp_path: Path) -> None:
    team = new_team(alone)
    folder = tmp_path / "folder"
    folder.mkdir()
    kb = team.client.create_kb("Harbour rules").slug
    spec = s.SourceIn(name="Files", kind="folder", settings={"path": str(folder), "watch": False})
    source = team.client.connect_source(kb, spec)
    secret = team.client.make_signal_secret(kb, source.id)
    headers = signed_headers(secret.secret, "signal_1", datetime.now(UTC), "{}")

    def signal() -> int:
        url = alone.url + secret.path
        return httpx.post(url, content="{}", headers=headers, timeout=60).status_code

    with ThreadPoolExecutor(1) as sender:
        with locked(alone):
            sent = sender.submit(signal)
            with httpx.Client(base_url=alone.url, timeout=30) as anybody:
                for _ in range(200):
                    assert anybody.get("/health/live").status_code == 200
            assert not sent.done()
        assert sent.result() == 202


def test_an_answer_in_flight_is_cancelled_by_a_stop(
    tmp_path: Path, serve: Callable[[Any], str]
) -> None:
    asked = threading.Event()

    async def never(request: Request) -> Response:
        asked.set()
        await asyncio.sleep(3600)
        return Response(status_code=500)

    model = serve(Starlette(routes=[Route("/v1/chat/completions", never, methods=["POST"])]))
    service = Service(tmp_path / "data").start()
    team = new_team(service)
    with service.operator() as operator:
        operator.create_model(s.ModelIn(name="mute", url=f"{model}/v1", remote="m", seconds=600))
    kb = team.client.create_kb("Harbour rules").slug
    team.client.add_document(kb, STORM, "storm-plan.md", wait=True)
    desk = team.client.create_desk(
        "Watch", s.DeskSettings(kbs=[s.DeskKb(kb=kb)], model="mute", audience="members")
    )
    team.client.publish_desk(desk.id, "first")
    # A client that tries again would wait for the service to come back.
    client = Client(service.url, team.key, team.slug, retry_seconds=0)
    with ThreadPoolExecutor(1) as asker:
        answer = asker.submit(client.ask_desk, desk.id, "When does the quay crane stop?")
        assert asked.wait(60)
        begun = time.monotonic()
        assert service.stop() == 0
        # The model's own time limit is ten minutes; `stop` gives up after half a minute.
        assert time.monotonic() - begun < 30
        with pytest.raises(ServiceFailed, match="stopping"):
            answer.result()
