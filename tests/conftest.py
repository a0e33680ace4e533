"""The real service, started on loopback; clients, teams and knowledge bases on it."""

from __future__ import annotations

import os
import re
import signal
import socket
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from itertools import count
from pathlib import Path
from typing import Any

import httpx
import pytest
from hypothesis import settings

from fontanel.client import Client
from tests.processes import forked
from tests.processes.forked import ForkedProcess

pytest_plugins = ("tests.servers",)

# The time of an example depends on the machine's load.
settings.register_profile("fontanel", deadline=None)
settings.register_profile("fast", deadline=None, max_examples=10)
settings.load_profile(os.environ.get("FONTANEL_TEST_PROFILE", "fontanel"))

ROOT = Path(__file__).parent.parent
EMBEDDER = Path(os.environ.get("FONTANEL_EMBEDDER") or ROOT / "var" / "embedder")
EVIDENCE = Path(os.environ.get("FONTANEL_EVIDENCE") or ROOT / "var" / "evidence")
DOCUMENTS = ROOT / "demo" / "documents"

STORM = b"""# Storm plan

In force from 1 March 2024.

## Outer berth

Departure from the outer berth is permitted up to a mean wind of 28 knots from the north-east. Above the limit a
departure waits for the word of the duty harbour master.

## Cranes

The quay crane stops at a gust of 38 knots and is pinned at 44 knots.

| Berth | Length | Depth |
| --- | --- | --- |
| Berth 4 | 120 m | 6.8 m |
| Berth 5 | 60 m | 4.2 m |
"""  # noqa: E501


class _Failures:
    """Prints each failure at once: a run may be cut off before its summary."""

    def __init__(self, config: pytest.Config) -> None:
        self._config = config

    def pytest_runtest_logreport(self, report: pytest.TestReport) -> None:
        terminal: Any = self._config.pluginmanager.get_plugin("terminalreporter")
        if report.failed and terminal is not None:
            terminal.write_line(f"\n{report.nodeid} ({report.when})")
            terminal.write_line(report.longreprtext[-4000:])


def pytest_configure(config: pytest.Config) -> None:
    if not hasattr(config, "workerinput"):
        config.pluginmanager.register(_Failures(config))


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port: int = probe.getsockname()[1]
        return port


def until(condition: Callable[[], object], seconds: float = 180.0) -> None:
    """Look again and again until the condition holds."""
    deadline = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < deadline, "it did not come to pass"
        time.sleep(0.02)


class ServiceEnded(AssertionError):
    """The service ended before it was ready; the end of its log follows."""


@dataclass
class Service:
    """A data directory and its service, which can be killed and restarted."""

    data: Path
    environment: dict[str, str] = field(default_factory=dict)
    process: ForkedProcess | None = None
    password: str = ""
    url: str = ""
    port: int = 0
    """The port, which it keeps when it is started again."""

    def start(self, **extra: str) -> Service:
        self.port = port = self.port or free_port()
        self.url = f"http://127.0.0.1:{port}"
        environment = {
            **os.environ,
            "FONTANEL_EMBEDDER": str(EMBEDDER),
            "FONTANEL_EVIDENCE": str(EVIDENCE),
            **self.environment,
            **extra,
        }
        self.process = forked.serve(
            ["serve", "--data", str(self.data), "--port", str(port)],
            environment,
            self.data.parent / f"{self.data.name}.log",
        )
        assert self.process.stdout is not None
        for line in self.process.stdout:
            if match := re.search(r"with the password (\S+)", line):
                self.password = match.group(1)
            if "listens on" in line:
                break
        self.wait_until_ready()
        return self

    def wait_until_ready(self) -> None:
        assert self.process is not None
        while self.process.poll() is None:
            try:
                if httpx.get(f"{self.url}/health/ready", timeout=5).is_success:
                    return
            except httpx.TransportError:
                time.sleep(0.02)
        raise ServiceEnded(self.log()[-2000:])

    def log(self) -> str:
        return (self.data.parent / f"{self.data.name}.log").read_text()

    def children(self) -> list[int]:
        assert self.process is not None
        listed = (
            Path(f"/proc/{self.process.pid}/task/{self.process.pid}/children").read_text().split()
        )
        results = [int(pid) for pid in listed]
        for task in Path(f"/proc/{self.process.pid}/task").iterdir():
            results += [int(pid) for pid in (task / "children").read_text().split()]
        return sorted(set(results))

    def kill(self) -> None:
        """`kill -9`, as a power cut would."""
        assert self.process is not None
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()

    def stop(self) -> int:
        assert self.process is not None
        self.process.send_signal(signal.SIGINT)
        return self.process.wait(timeout=30)

    def operator(self) -> Client:
        client = Client(self.url)
        client.sign_in("operator@localhost", self.password)
        return client


@dataclass
class TeamSetup:
    """A team with an owner who can sign in and a client with an owner's key."""

    slug: str
    name: str
    email: str
    password: str
    key: str
    client: Client
    service: Service

    def with_role(self, role: str) -> Client:
        key = self.client.make_key(f"a {role}", role)  # type: ignore[arg-type]
        return Client(self.service.url, key.secret, self.slug)


_numbers = count(1)


def new_team(service: Service, name: str | None = None) -> TeamSetup:
    number = next(_numbers)
    name = name or f"Team {number}"
    email = f"owner{number}@skerrow.example"
    with service.operator() as operator:
        team = operator.create_team(name)
        operator.use_team(team.slug)
        operator.set_grants(team.slug, None, None)
        password = join(service, operator, email, f"Owner {number}", "owner")
    with Client(service.url, team=team.slug) as owner:
        owner.sign_in(email, password)
        key = owner.make_key("tests", "owner")
    return TeamSetup(
        team.slug,
        name,
        email,
        password,
        key.secret,
        Client(service.url, key.secret, team.slug),
        service,
    )


def join(service: Service, inviter: Client, email: str, name: str, role: Any = "reader") -> str:
    """Invite a new person, and accept as that person would; return their password."""
    made = inviter.invite(email, name, role)
    assert made.secret is not None
    password = f"chosen by {name}"
    with Client(service.url) as invited:
        invited.accept_invitation(made.secret, password=password)
    return password


@pytest.fixture(scope="session")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """A service for all tests that neither kill nor reconfigure it."""
    result = Service(tmp_path_factory.mktemp("service") / "data").start()
    yield result
    result.stop()


@pytest.fixture
def team(service: Service) -> TeamSetup:
    return new_team(service)


@pytest.fixture
def kb(team: TeamSetup) -> str:
    return team.client.create_kb("Harbour rules").slug


@pytest.fixture
def storm(team: TeamSetup, kb: str) -> str:
    """A knowledge base with the storm plan indexed; its short name."""
    added = team.client.add_document(kb, STORM, "storm-plan.md", {"year": "2024"}, wait=True)
    assert added.document.state == "indexed"
    return kb


@pytest.fixture(scope="session")
def marine(service: Service) -> tuple[TeamSetup, str]:
    """A team with the demo's marine documents, shared by reading tests."""
    setup = new_team(service, "Marine readers")
    slug = setup.client.create_kb("Harbour rules").slug
    for path in sorted((DOCUMENTS / "marine-operations").iterdir()):
        setup.client.add_document(slug, path)
    for document in list(setup.client.list_documents(slug)):
        assert setup.client.wait_for_document(slug, document.id).state == "indexed"
    return setup, slug
