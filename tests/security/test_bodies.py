"""Bodies are read from known callers only, within limits.

Connections are limited too.
"""

from __future__ import annotations

import json
import socket
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from fontanel.service.bodies import MAX_DEPTH, BodyRefused, check_json
from tests import patient
from tests.conftest import Service, TeamSetup, new_team


@pytest.fixture
def http(team: TeamSetup) -> Iterator[httpx.Client]:
    headers = {"Authorization": f"Bearer {team.key}"}
    with patient.Client(
        base_url=f"{team.service.url}/api/v1/teams/{team.slug}", headers=headers, timeout=60
    ) as client:
        yield client


def exchange(service: Service, *pieces: bytes) -> bytes:
    """Send pieces over one connection and read all until the service closes it."""
    host, port = service.url.removeprefix("http://").split(":")
    with socket.create_connection((host, int(port)), timeout=60) as connection:
        for piece in pieces:
            connection.sendall(piece)
        answer = b""
        while data := connection.recv(65536):
            answer += data
        return answer


@pytest.mark.parametrize(
    "path", ["/api/v1/teams/x/kbs/y/documents", "/api/v1/teams/x/packs", "/api/v1/teams/x/kbs"]
)
@pytest.mark.parametrize(
    "credentials", ["", "Authorization: Bearer fk_unknown\r\n", "Cookie: fontanel_session=x\r\n"]
)
def test_strangers_are_refused_before_their_body_comes(
    service: Service, path: str, credentials: str
) -> None:
    """None of the announced 150 MB is sent, but the response comes."""
    head = (
        f"POST {path} HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length:"
        f" 150000000\r\nExpect: 100-continue\r\n{credentials}\r\n"
    )
    answer = exchange(service, head.encode())
    assert answer.startswith(b"HTTP/1.1 401"), answer
    assert b"100 Continue" not in answer


def test_the_sign_in_takes_small_bodies_only(service: Service) -> None:
    body = json.dumps({"email": "a@b.example", "password": "x" * 70_000})
    answer = patient.post(
        f"{service.url}/api/v1/session", content=body, headers={"Content-Type": "application/json"}
    )
    assert answer.status_code == 413
    assert answer.json()["type"].endswith("too-large")


def test_a_body_that_grows_without_saying_so_is_cut_off(service: Service) -> None:
    def grows() -> Iterator[bytes]:
        for _ in range(100):
            yield b"x" * 10_000

    answer = patient.post(
        f"{service.url}/api/v1/session",
        content=grows(),
        headers={"Content-Type": "application/json"},
    )
    assert answer.status_code == 413


def test_json_has_a_limit_of_its_own(http: httpx.Client) -> None:
    assert http.post("/kbs", json={"name": "x" * 1_100_000}).status_code == 413
    assert http.post("/kbs", json={"name": "x" * 900_000}).status_code == 422


def test_a_form_is_an_upload_only_where_files_are_taken(http: httpx.Client) -> None:
    answer = http.post("/keys", files={"file": ("x.bin", b"x" * 1_200_000)})
    assert answer.status_code == 413


@pytest.mark.parametrize(
    "body",
    [
        b"[" * 100_000,
        b'{"name":' * 500 + b"1" + b"}" * 500,
        b'{"name": "x", "more": ' + b"[" * (MAX_DEPTH + 1) + b"]" * (MAX_DEPTH + 1) + b"}",
        b'{"name": [' + b"{}," * 150_000 + b"{}]}",
        b'{"name": NaN}',
        b'{"name": "\\ud800"}',
        b'{"\\udfff": 1}',
        b'{"name": "x", "n": 1e999, "m": Infinity}',
        b'{"name": ' + b"1" * 5000 + b"}",
        b"\xff\xfe\xfd",
    ],
)
def test_json_that_no_record_can_hold_is_refused(http: httpx.Client, body: bytes) -> None:
    answer = http.post("/kbs", content=body, headers={"Content-Type": "application/json"})
    assert answer.status_code in (400, 422), answer.text
    assert answer.headers["content-type"] == "application/problem+json"


def test_what_is_wrong_in_json_is_named() -> None:
    with pytest.raises(BodyRefused) as caught:
        check_json(b'{"documents": [{"tags": {"a": "\\ud83d"}}]}')
    assert caught.value.error.field == "documents.0.tags.a"
    check_json(
        b'{"fine": "\\ud83d\\ude00", "brackets":'
        b' "[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[["}'
    )


@pytest.fixture(scope="module")
def hurried(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """A service that waits a second only for heads and bodies."""
    limits = {"FONTANEL_HEAD_SECONDS": "1", "FONTANEL_BODY_SECONDS": "1"}
    result = Service(tmp_path_factory.mktemp("hurried") / "data", limits).start()
    yield result
    result.stop()


@pytest.mark.parametrize("sent", [b"", b"GET /api/v1/session HTTP/1.1\r\nHost: x\r\n"])
def test_a_head_that_does_not_come_closes_the_connection(hurried: Service, sent: bytes) -> None:
    assert exchange(hurried, sent) == b""


def test_a_second_request_s_head_has_to_come_too(hurried: Service) -> None:
    first = b"GET /health/live HTTP/1.1\r\nHost: x\r\n\r\n"
    assert exchange(hurried, first + b"GET /health/live HTTP/1.1\r\nHo").count(b"HTTP/1.1 200") == 1


def test_a_body_that_does_not_come_is_given_up(hurried: Service) -> None:
    key = new_team(hurried).key
    head = (
        f"POST /api/v1/teams HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {key}\r\nContent-Type:"
        " application/json\r\nContent-Length: 100\r\n\r\n{"
    )
    answer = exchange(hurried, head.encode())
    assert answer.startswith(b"HTTP/1.1 408"), answer
    assert b"too-slow" in answer


def test_connections_over_the_limit_are_turned_away_and_room_comes_back(tmp_path: Path) -> None:
    running = Service(tmp_path / "data", {"FONTANEL_MAX_CONNECTIONS": "20"}).start()
    try:
        host, port = running.url.removeprefix("http://").split(":")
        stored = [socket.create_connection((host, int(port)), timeout=60) for _ in range(20)]
        assert b"503" in exchange(running)
        for connection in stored:
            connection.close()
        running.wait_until_ready()
    finally:
        running.stop()


def test_an_upload_is_stored_as_it_comes(team: TeamSetup, kb: str, tmp_path: Path) -> None:
    large = tmp_path / "log.txt"
    large.write_bytes(b"The watch wrote down the wind.\n" * 100_000)
    assert team.client.add_document(kb, large).outcome == "added"
