"""Calls that may be repeated survive a service that is busy, restarted or cut off."""

from __future__ import annotations

import http.server
import json
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Client, NotFound, ServiceFailed, Unreachable
from tests.conftest import Service, free_port, new_team


def problem(status: int, detail: str) -> bytes:
    return json.dumps({"type": "x", "title": "x", "status": status, "detail": detail}).encode()


ANSWERS = {
    "fine": (200, b'{"items": [], "next": null}'),
    "busy": (503, problem(503, "Busy.")),
    "gone": (404, problem(404, "Gone.")),
}


class Moody(http.server.ThreadingHTTPServer):
    """A server that refuses, or breaks the connection, until it has been asked often enough."""

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Moody)
        #: What happens to the next requests; afterwards they succeed.
        self.moods: list[str] = []
        self.requests: list[str] = []


class _Moody(http.server.BaseHTTPRequestHandler):
    server: Moody

    def _answer(self) -> None:
        self.rfile.read(int(self.headers.get("Content-Length") or 0))
        self.server.requests.append(f"{self.command} {self.headers.get('Idempotency-Key', '')}")
        mood = self.server.moods.pop(0) if self.server.moods else "fine"
        if mood == "cut":
            self.close_connection = True
            return
        status, body = ANSWERS[mood]
        self.send_response(status)
        self.send_header("Content-Length", str(len(body)))
        if mood == "busy":
            self.send_header("Retry-After", "0")
        self.end_headers()
        self.wfile.write(body)

    do_GET = do_POST = do_PUT = do_DELETE = do_PATCH = _answer  # noqa: N815

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture
def moody() -> Iterator[Moody]:
    server = Moody()
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.shutdown()


@pytest.fixture
def client(moody: Moody) -> Iterator[Client]:
    """A client that has reached its server once."""
    with Client(f"http://127.0.0.1:{moody.server_address[1]}", "fk_x", "team") as result:
        result.list_kbs()
        moody.requests.clear()
        yield result


@pytest.mark.parametrize("mood", ["busy", "cut"])
def test_a_read_is_tried_again(client: Client, moody: Moody, mood: str) -> None:
    moody.moods = [mood] * 3
    assert client.list_kbs() == []
    assert len(moody.requests) == 4


def test_a_creating_call_is_tried_again_under_one_key(client: Client, moody: Moody) -> None:
    moody.moods = ["busy", "cut", "gone"]
    with pytest.raises(NotFound):
        client.create_kb("Rules")
    assert len(moody.requests) == 3
    assert len(set(moody.requests)) == 1
    assert len(moody.requests[0]) > len("POST ")


@pytest.mark.parametrize(
    "call",
    [
        lambda client: client.make_key("nightly", "editor"),
        lambda client: client.change_desk("desk", {"length": "short"}, version=3),
        lambda client: client.rewrite_document("kb", "note.md", "text", 3),
        lambda client: client.change_team(s.TeamChange(name="New")),
    ],
)
def test_what_could_be_done_twice_is_sent_once(client: Client, moody: Moody, call: object) -> None:
    moody.moods = ["busy", "busy"]
    with pytest.raises(ServiceFailed, match="Busy"):
        call(client)  # type: ignore[operator]
    assert len(moody.requests) == 1


def test_something_deleted_by_the_attempt_before_is_deleted(client: Client, moody: Moody) -> None:
    moody.moods = ["cut", "gone"]
    client.delete_kb("rules")
    moody.moods = ["gone"]
    with pytest.raises(NotFound):
        client.delete_kb("rules")


def test_a_service_that_was_never_there_is_reported_at_once() -> None:
    client = Client(f"http://127.0.0.1:{free_port()}", "fk_x", "team")
    with client, pytest.raises(Unreachable):
        client.list_kbs()


def test_without_time_nothing_is_tried_again(moody: Moody) -> None:
    url = f"http://127.0.0.1:{moody.server_address[1]}"
    with Client(url, "fk_x", "team", retry_seconds=0) as client:
        moody.moods = ["busy"]
        with pytest.raises(ServiceFailed):
            client.list_kbs()


def test_uploading_a_folder_survives_a_restart(tmp_path: Path) -> None:
    service = Service(tmp_path / "data").start()
    try:
        team = new_team(service)
        kb = team.client.create_kb("Rules").slug
        names = [f"note-{number}.md" for number in range(12)]
        for number, name in enumerate(names):
            if number == 4:
                service.kill()
                restart = threading.Thread(target=service.start)
                restart.start()
            content = f"# Note {number}\n\nThe lamp of buoy {number} is green.\n".encode()
            team.client.add_document(kb, content, name)
        restart.join()
        for name in names:
            assert team.client.wait_for_document(kb, name).state == "indexed"
        assert [document.name for document in team.client.list_documents(kb)] == sorted(names)
    finally:
        service.stop()
