"""A slow server delays its own team only."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import httpx
import pytest

from fontanel import schemas as s
from fontanel.sources import SourceLimits
from fontanel.sources.network.reach import (
    ServerTooSlow,
    http_client,
)
from tests.conftest import Service, new_team, until
from tests.servers import LOOPBACK, WebServer


@pytest.fixture
def dribbling() -> Iterator[int]:
    """A server that sends a byte at a time without end, within any timeout per read."""
    stop = threading.Event()

    def dribble(connection: socket.socket) -> None:
        with closing(connection):
            connection.recv(4096)
            head = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: 1000000\r\n\r\n"
            try:
                for number in range(10_000_000):
                    connection.sendall(head[number : number + 1] or b"x")
                    if stop.wait(0.05):
                        return
            except OSError:
                return

    with socket.create_server(("127.0.0.1", 0)) as server:
        server.settimeout(0.1)

        def accept() -> None:
            while not stop.is_set():
                try:
                    connection, _ = server.accept()
                except TimeoutError:
                    continue
                threading.Thread(target=dribble, args=(connection,), daemon=True).start()

        thread = threading.Thread(target=accept)
        thread.start()
        yield server.getsockname()[1]
        stop.set()
        thread.join()


def test_a_server_that_dribbles_is_given_up(dribbling: int) -> None:
    with (
        http_client(SourceLimits(networks=LOOPBACK, seconds=1.0)) as client,
        pytest.raises(ServerTooSlow),
    ):
        client.get(f"http://127.0.0.1:{dribbling}/")


def test_whoever_no_longer_wants_the_answer_is_let_go(dribbling: int) -> None:
    asked = iter([False] * 2 + [True] * 1000)
    limits = SourceLimits(networks=LOOPBACK, seconds=3000.0, stopping=lambda: next(asked))
    with http_client(limits) as client, pytest.raises(httpx.ReadError):
        client.get(f"http://127.0.0.1:{dribbling}/")


def test_a_slow_server_of_one_team_keeps_no_other_waiting(tmp_path: Path, dribbling: int) -> None:
    (tmp_path / "share").mkdir()
    (tmp_path / "share" / "x.md").write_text("# X\n\nText.")
    environment = {
        "FONTANEL_SOURCE_ROOTS": str(tmp_path),
        "FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8",
        "FONTANEL_SOURCE_SECONDS": "3000",
    }
    running = Service(tmp_path / "data", environment).start()
    try:
        slow, other = new_team(running), new_team(running)
        kb = slow.client.create_kb("Slow").slug
        sources = [
            slow.client.connect_source(
                kb,
                s.SourceIn(
                    name=f"S{n}",
                    kind="site",
                    settings={"start": [f"http://127.0.0.1:{dribbling}/{n}"]},
                ),
            )
            for n in range(10)
        ]
        until(
            lambda: (
                sum(source.recent[0].state == "running" for source in slow.client.list_sources(kb))
                == 2
            )
        )
        mine = other.client.create_kb("Mine").slug
        other.client.connect_source(
            mine,
            s.SourceIn(name="Share", kind="folder", settings={"path": str(tmp_path / "share")}),
        )
        until(lambda: other.client.show_kb(mine).documents == 1)
        assert (
            sum(source.recent[0].state == "running" for source in slow.client.list_sources(kb)) == 2
        )
        # A source that is deleted lets go of its server: the next ones run.
        first = {
            source.id
            for source in slow.client.list_sources(kb)
            if source.recent[0].state == "running"
        }
        for source_id in first:
            slow.client.disconnect_source(kb, source_id)
        until(
            lambda: (
                sum(source.recent[0].state == "running" for source in slow.client.list_sources(kb))
                == 2
            )
        )
        assert len(sources) == 10
    finally:
        running.stop()


def test_a_slow_receiver_keeps_no_other_waiting(
    tmp_path: Path, dribbling: int, web: WebServer
) -> None:
    environment = {"FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8", "FONTANEL_SOURCE_SECONDS": "3000"}
    running = Service(tmp_path / "data", environment).start()
    try:
        slow, other = new_team(running), new_team(running)
        for team, url in ((slow, f"http://127.0.0.1:{dribbling}/"), (other, f"{web.url}/events")):
            team.client.add_receiver(url)
            with running.operator() as operator:
                operator.use_team(team.slug)
                operator.make_key("announced", "reader", expires_in_days=1)
        until(
            lambda: (
                other.client.list_receivers()[0].failing
                or other.client.list_receivers()[0].last_sent_at
            )
        )
        assert slow.client.list_receivers()[0].waiting == 1
    finally:
        running.stop()
