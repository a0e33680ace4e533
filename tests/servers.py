"""Real servers on loopback that sources read from, as fixtures for all tests."""

from __future__ import annotations

import http.server
import os
import shutil
import socketserver
import subprocess
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from glob import glob
from ipaddress import ip_network
from pathlib import Path
from typing import Any

import httpx
import pytest
import uvicorn
from starlette.applications import Starlette

from fontanel.simulators.embedder import embedder_app
from fontanel.simulators.model import model_app
from fontanel.sources import KINDS, Fetched, Listed, PreviousItem, Skipped, Source, SourceLimits
from tests import patient
from tests.conftest import free_port, until
from tests.processes import forked

LOOPBACK = (ip_network("127.0.0.0/8"),)


def opened(
    kind: str, settings: dict[str, Any], credentials: dict[str, Any] | None = None, **around: Any
) -> Source:
    """A source opened with these settings, allowed to reach this machine."""
    result = KINDS[kind]
    limits = SourceLimits(**{"networks": LOOPBACK, "seconds": 5.0, **around})
    return result.open(
        result.settings(**settings), result.credentials(**(credentials or {})), limits
    )


@dataclass
class Look:
    """A source's listing: items by id, and reasons of skipped ones."""

    items: dict[str, Listed] = field(default_factory=dict)
    skipped: dict[str, str] = field(default_factory=dict)

    def previous(self, item_id: str) -> PreviousItem | None:
        """What a run would keep of what was seen here."""
        result = self.items.get(item_id)
        return (
            PreviousItem(result.mark, result.fetched.notes if result.fetched else None)
            if result
            else None
        )


def look(source: Source, before: Look | None = None) -> Look:
    out = Look()
    for item in source.items(before.previous if before else lambda _: None):
        if isinstance(item, Skipped):
            out.skipped[item.id] = item.reason
        else:
            out.items[item.id] = item
    return out


def content(source: Source, item: Listed) -> bytes:
    fetched: Fetched = item.fetched or source.fetch(item)
    assert fetched.chunks is not None
    return b"".join(fetched.chunks)


@dataclass
class Answer:
    """What the test's web server gives for a path."""

    body: bytes = b""
    status: int = 200
    headers: dict[str, str] = field(default_factory=dict)
    #: How often the path is answered with `first` before this answer.
    times: int = 0
    first: int = 503
    wait: threading.Event | None = None


@dataclass
class WebServer:
    """A web server whose pages are a dictionary; it counts what it was asked for."""

    url: str
    pages: dict[str, Answer] = field(default_factory=dict)
    asked: list[tuple[str, int]] = field(default_factory=list)

    def page(self, path: str, html: str, **more: Any) -> None:
        headers = {"Content-Type": "text/html; charset=utf-8", **more.pop("headers", {})}
        self.pages[path] = Answer(html.encode(), headers=headers, **more)

    def statuses(self) -> dict[str, int]:
        return dict(self.asked)


@pytest.fixture
def web() -> Iterator[WebServer]:
    class Handler(http.server.BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:
            answer = result.pages.get(self.path, Answer(b"not there", 404))
            status, headers, body = answer.status, dict(answer.headers), answer.body
            if answer.wait is not None:
                answer.wait.wait(20)
            if answer.times:
                answer.times -= 1
                status, body = answer.first, b"later"
            elif (
                status == 200
                and "ETag" in headers
                and self.headers.get("If-None-Match") == headers["ETag"]
            ):
                status, body = 304, b""
            result.asked.append((self.path, status))
            self.send_response(status)
            for name, value in headers.items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: Any) -> None:
            pass

    class Server(socketserver.ThreadingMixIn, http.server.HTTPServer):
        daemon_threads = True

    server = Server(("127.0.0.1", 0), Handler)
    result = WebServer(f"http://127.0.0.1:{server.server_port}")
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield result
    server.shutdown()


@pytest.fixture
def receiver() -> Iterator[tuple[str, list[tuple[dict[str, str], bytes]], list[int]]]:
    """A receiver that records its requests, with their path, and replies with `statuses`."""
    got: list[tuple[dict[str, str], bytes]] = []
    statuses: list[int] = []

    class Handler(http.server.BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers["Content-Length"]))
            headers = {name.lower(): value for name, value in self.headers.items()}
            got.append(({**headers, "path": self.path}, body))
            self.send_response(statuses.pop(0) if statuses else 204)
            self.end_headers()

        def log_message(self, *_: Any) -> None:
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}/events", got, statuses
    server.shutdown()


@pytest.fixture
def serve() -> Iterator[Callable[[Any], str]]:
    """Serves ASGI applications; gives their addresses."""
    servers = []

    def start(app: Any) -> str:
        port = free_port()
        server = uvicorn.Server(uvicorn.Config(app, host="127.0.0.1", port=port, log_level="error"))
        threading.Thread(target=server.run, daemon=True).start()
        until(lambda: server.started)
        servers.append(server)
        return f"http://127.0.0.1:{port}"

    yield start
    for server in servers:
        server.should_exit = True


@contextmanager
def served_on(app: Starlette, port: int) -> Iterator[str]:
    """Serve a simulator on a port while the block runs; yield its address."""
    server = uvicorn.Server(uvicorn.Config(app, host="127.0.0.1", port=port, log_level="error"))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    until(lambda: server.started)
    yield f"http://127.0.0.1:{port}/v1"
    server.should_exit = True
    thread.join(timeout=10)


@pytest.fixture(scope="session")
def model_server() -> Iterator[str]:
    """A simulator model server; its address."""
    with served_on(model_app(), free_port()) as url:
        yield url


@pytest.fixture(scope="session")
def embedding_server() -> Iterator[str]:
    """A simulated server of embeddings; its address."""
    with served_on(embedder_app(), free_port()) as url:
        yield url


@contextmanager
def simulator(name: str, *arguments: object) -> Iterator[str]:
    """A simulator started from the command line; its address."""
    port = free_port()
    command = ["simulator", name, *map(str, arguments), "--port", str(port)]
    process = forked.serve(command, os.environ, Path(os.devnull))
    url = f"http://127.0.0.1:{port}"

    def answers() -> bool:
        try:
            return patient.get(url).status_code > 0
        except httpx.TransportError:
            return False

    try:
        until(answers)
        yield url
    finally:
        process.terminate()
        process.wait(20)


@dataclass
class Postgres:
    port: int
    run: Callable[[str], None]


@pytest.fixture(scope="session")
def postgres(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Postgres]:
    """A real PostgreSQL server, with a user who owns its tables."""
    programs = (
        Path(shutil.which("initdb") or sorted(glob("/usr/lib/postgresql/*/bin/initdb"))[-1])
        .resolve()
        .parent
    )
    directory = Path("/tmp") / f"fontanel-postgres-{os.getpid()}"
    directory.mkdir(mode=0o700)
    # The server refuses to run as root.
    who = (
        ["setpriv", "--reuid=nobody", "--regid=nogroup", "--clear-groups"]
        if os.getuid() == 0
        else []
    )
    if who:
        shutil.chown(directory, "nobody", "nogroup")
    port = free_port()
    subprocess.run(
        [
            *who,
            str(programs / "initdb"),
            "-D",
            str(directory / "data"),
            "-U",
            "keeper",
            "--auth=trust",
            "-E",
            "UTF8",
        ],
        check=True,
        capture_output=True,
        cwd="/",
    )
    server = subprocess.Popen(
        [
            *who,
            str(programs / "postgres"),
            "-D",
            str(directory / "data"),
            "-p",
            str(port),
            "-k",
            str(directory),
            "-h",
            "127.0.0.1",
            "-c",
            "fsync=off",
        ],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        cwd="/",
    )
    import psycopg

    def run(statement: str) -> None:
        with psycopg.connect(
            host="127.0.0.1", port=port, user="keeper", dbname="postgres", autocommit=True
        ) as connection:
            connection.execute(statement)

    def ready() -> bool:
        try:
            run("select 1")
        except psycopg.OperationalError:
            return False
        return True

    until(ready)
    yield Postgres(port, run)
    server.terminate()
    server.wait()
    shutil.rmtree(directory, ignore_errors=True)
