"""A Synapse on this machine, and people who write with it."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from itertools import count
from pathlib import Path
from typing import Any
from urllib.parse import quote

import httpx

from tests import patient
from tests.conftest import ROOT, free_port, until

_PYTHON = ROOT / "var" / "matrix" / "bin" / "python"
DOMAIN = "skerrow.example"
_FAST = {"per_second": 1000, "burst_count": 1000}


@dataclass
class Homeserver:
    base: Path
    port: int

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def person(self, name: str) -> Person:
        """Register somebody."""
        body = {"username": name, "password": "tide-table", "auth": {"type": "m.login.dummy"}}
        response = httpx.post(f"{self.url}/_matrix/client/v3/register", json=body, timeout=60)
        response.raise_for_status()
        return Person(name, self.url, response.json()["access_token"])


@contextmanager
def running(server: Homeserver) -> Iterator[None]:
    """Run the homeserver while the block runs."""
    process = subprocess.Popen(
        [_PYTHON, "-m", "synapse.app.homeserver", "-c", server.base / "homeserver.yaml"],
        cwd=server.base,
        stdout=(server.base / "out.log").open("ab"),
        stderr=subprocess.STDOUT,
    )

    def up() -> bool:
        assert process.poll() is None, (server.base / "out.log").read_text()[-2000:]
        try:
            return patient.get(f"{server.url}/_matrix/client/versions").is_success
        except httpx.TransportError:
            return False

    try:
        until(up)
        yield
    finally:
        process.terminate()
        process.wait(30)


@contextmanager
def homeserver(base: Path) -> Iterator[Homeserver]:
    """Run a new homeserver while the block runs."""
    base.mkdir()
    server = Homeserver(base, free_port())
    settings = {
        "server_name": DOMAIN,
        "listeners": [
            {
                "port": server.port,
                "type": "http",
                "tls": False,
                "bind_addresses": ["127.0.0.1"],
                "resources": [{"names": ["client"]}],
            }
        ],
        "database": {"name": "sqlite3", "args": {"database": str(base / "homeserver.db")}},
        "media_store_path": str(base / "media"),
        "signing_key_path": str(base / "signing.key"),
        "pid_file": str(base / "pid"),
        "log_config": str(base / "log.yaml"),
        "report_stats": False,
        "enable_registration": True,
        "enable_registration_without_verification": True,
        "suppress_key_server_warning": True,
        "trusted_key_servers": [],
        "macaroon_secret_key": "a secret of the tests",
        "form_secret": "another secret of the tests",
        "bcrypt_rounds": 4,
        "rc_message": _FAST,
        "rc_registration": _FAST,
        "rc_login": {"address": _FAST, "account": _FAST, "failed_attempts": _FAST},
        "rc_joins": {"local": _FAST, "remote": _FAST},
        "rc_invites": {"per_room": _FAST, "per_user": _FAST, "per_issuer": _FAST},
    }
    (base / "homeserver.yaml").write_text(json.dumps(settings))  # JSON is YAML
    (base / "log.yaml").write_text(
        json.dumps(
            {
                "version": 1,
                "handlers": {"out": {"class": "logging.StreamHandler", "level": "WARNING"}},
                "root": {"handlers": ["out"]},
            }
        )
    )
    subprocess.run(
        [
            _PYTHON,
            "-m",
            "synapse.app.homeserver",
            "-c",
            base / "homeserver.yaml",
            "--generate-keys",
        ],
        cwd=base,
        check=True,
        capture_output=True,
    )
    with running(server):
        yield server


@dataclass
class Person:
    name: str
    url: str
    token: str
    numbers: Iterator[int] = field(default_factory=lambda: count(1))

    @property
    def id(self) -> str:
        return f"@{self.name}:{DOMAIN}"

    def call(self, method: str, path: str, body: Any = None, **query: str) -> Any:
        response = httpx.request(
            method,
            f"{self.url}/_matrix/client/v3{path}",
            json=body,
            params=query,
            headers={"Authorization": f"Bearer {self.token}"},
            timeout=60,
        )
        response.raise_for_status()
        return response.json()

    def create_room(self, *invited: str, alias: str | None = None) -> str:
        body = {"preset": "private_chat", "invite": list(invited), "room_alias_name": alias}
        room = self.call("POST", "/createRoom", {k: v for k, v in body.items() if v})
        return str(room["room_id"])

    def members(self, room: str) -> set[str]:
        return set(self.call("GET", f"/rooms/{quote(room)}/joined_members")["joined"])

    def write(self, room: str, text: str, **content: Any) -> str:
        """Send a message; return the id of its event."""
        body = {"msgtype": "m.text", "body": text, **content}
        path = f"/rooms/{quote(room)}/send/m.room.message/{self.name}-{next(self.numbers)}"
        return str(self.call("PUT", path, body)["event_id"])

    def react(self, room: str, event: str, reaction: str) -> None:
        relation = {"rel_type": "m.annotation", "event_id": event, "key": reaction}
        path = f"/rooms/{quote(room)}/send/m.reaction/{self.name}-{next(self.numbers)}"
        self.call("PUT", path, {"m.relates_to": relation})

    def answers(self, room: str, containing: str) -> list[dict[str, Any]]:
        """Return the events of answers in a room, the newest first, that contain a text."""
        found = self.call("GET", f"/rooms/{quote(room)}/messages", dir="b", limit="100")
        return [
            event
            for event in found["chunk"]
            if event["sender"] == f"@ask:{DOMAIN}"
            and containing in event["content"].get("body", "")
        ]

    def answer(self, room: str, containing: str) -> dict[str, Any]:
        """Wait for the answer that contains a text; it is the only one."""
        until(lambda: self.answers(room, containing))
        (answer,) = self.answers(room, containing)
        return answer
