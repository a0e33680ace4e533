"""A Prosody on this machine, and people who write with it."""

from __future__ import annotations

import asyncio
import os
import subprocess
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from slixmpp import JID, ClientXMPP

from tests.conftest import free_port, until

HOST = "chat.localhost"
ROOM = f"bridge@rooms.{HOST}"
ACCOUNT = f"ask@{HOST}"
_CONFIGURATION = """
run_as_root = true
pidfile = "{base}/prosody.pid"
data_path = "{base}/data"
log = {{ info = "{base}/prosody.log" }}
interfaces = {{ "127.0.0.1" }}
c2s_ports = {{ {port} }}
s2s_ports = {{ }}
c2s_require_encryption = false
modules_enabled = {{ "roster", "saslauth", "disco", "ping", "offline", "message" }}
modules_disabled = {{ "s2s", "tls", "posix" }}
authentication = "internal_plain"
VirtualHost "{host}"
Component "rooms.{host}" "muc"
  muc_room_default_public_jids = {public}
  muc_room_default_persistent = true
  modules_enabled = {{ "muc_unique" }}
"""


@dataclass
class ChatServer:
    base: Path
    port: int

    def person(self, name: str) -> Person:
        return Person(name, self.port)

    def settings(self, **more: Any) -> dict[str, Any]:
        return {"jid": ACCOUNT, "server": f"127.0.0.1:{self.port}", "rooms": [ROOM], **more}


@contextmanager
def running(server: ChatServer) -> Iterator[None]:
    """Run the server while the block runs."""
    log = server.base / "prosody.log"
    log.unlink(missing_ok=True)
    configuration = server.base / "prosody.cfg.lua"
    process = subprocess.Popen(
        ["prosody", "-F", "--config", str(configuration)],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    until(lambda: process.poll() is not None or (log.exists() and "c2s" in log.read_text()))
    assert process.poll() is None, log.read_text()
    try:
        yield
    finally:
        process.terminate()
        process.wait(20)


@contextmanager
def chat_server(base: Path, *, public: bool = True) -> Iterator[ChatServer]:
    """Run a new server with three accounts while the block runs."""
    server = ChatServer(base, free_port())
    (base / "data").mkdir()
    (base / "prosody.cfg.lua").write_text(
        _CONFIGURATION.format(base=base, port=server.port, host=HOST, public=str(public).lower())
    )
    accounts = base / "data" / HOST.replace(".", "%2e") / "accounts"
    accounts.mkdir(parents=True)
    for name in ("ask", "mate", "cook"):
        (accounts / f"{name}.dat").write_text('return {\n\t["password"] = "tide-table";\n};\n')
    if os.getuid() == 0:
        for path in (base, *base.rglob("*")):
            path.chmod(0o777 if path.is_dir() else 0o666)
    with running(server):
        yield server


@dataclass
class Person:
    """Somebody who is signed in, and in the room; a thread of its own keeps the connection."""

    name: str
    port: int
    received: list[Any] = field(default_factory=list)

    def __enter__(self) -> Person:
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()
        self._call(self._connect())
        return self

    def __exit__(self, *_: object) -> None:
        self._call(self._close())
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._loop.run_forever()

    def _call(self, work: Any) -> Any:
        async def run() -> Any:
            return await work

        return asyncio.run_coroutine_threadsafe(run(), self._loop).result(30)

    async def _connect(self) -> None:
        self._client = client = ClientXMPP(
            JID(f"{self.name}@{HOST}/bridge"),
            "tide-table",
            plugin_config={"feature_mechanisms": {"unencrypted_scram": True}},
        )
        client.enable_direct_tls, client.enable_plaintext = False, True
        for plugin in ("xep_0045", "xep_0308", "xep_0359", "xep_0444", "xep_0461", "xep_0085"):
            client.register_plugin(plugin)
        started = asyncio.Event()
        client.add_event_handler("session_start", lambda _: started.set())
        client.add_event_handler("message", self.received.append)
        client.add_event_handler("chatstate_composing", self.received.append)
        client.connect("127.0.0.1", self.port)
        await asyncio.wait_for(started.wait(), 20)
        client.send_presence()
        await client.plugin["xep_0045"].join_muc_wait(JID(ROOM), self.name, maxstanzas=0)

    async def _close(self) -> None:
        await self._client.disconnect(wait=0.5)
        others = asyncio.all_tasks() - {asyncio.current_task()}
        for task in others:
            task.cancel()
        await asyncio.gather(*others, return_exceptions=True)

    def write(self, text: str, to: str = ACCOUNT, **more: Any) -> str:
        """Send a message; return its id."""

        async def send() -> str:
            kind: Any = "groupchat" if to == ROOM else "chat"
            stanza = self._client.make_message(mto=JID(to), mbody=text, mtype=kind)
            stanza["id"] = more.get("id") or self._client.new_id()
            if "corrects" in more:
                stanza["replace"]["id"] = more["corrects"]
            if "reply" in more:
                answer = more["reply"]
                stanza["reply"]["id"] = answer["stanza_id"]["id"] or answer["id"]
                stanza["reply"]["to"] = answer["from"]
            stanza.send()
            return str(stanza["id"])

        return str(self._call(send()))

    def react(self, answer: Any, reaction: str) -> None:
        """Send a reaction to an answer."""

        async def send() -> None:
            room = answer["type"] == "groupchat"
            to = JID(ROOM) if room else answer["from"]
            stanza = self._client.make_message(mto=to, mtype="groupchat" if room else "chat")
            stanza["reactions"]["id"] = answer["stanza_id"]["id"] or answer["id"]
            stanza["reactions"]["values"] = {reaction}
            stanza.send()

        self._call(send())

    def answers(self, containing: str = "") -> list[Any]:
        """Return the answers that arrived, which contain a text."""
        return [
            one
            for one in self.received
            if one["body"]
            and containing in one["body"]
            and (one["from"].bare == ACCOUNT or one["from"].resource == "Fontanel")
        ]

    def answer(self, containing: str) -> Any:
        """Wait for the answer that contains a text; it is the only one."""
        until(lambda: self.answers(containing))
        (answer,) = self.answers(containing)
        return answer
