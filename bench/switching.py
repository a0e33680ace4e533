"""A large knowledge base moves to another embedder while people search, with three kills.

The service is killed (SIGKILL) at a quarter, a half and three quarters of the build and started
again. Counted are the texts that the embedder is sent more than once, the searches that fail while
the service runs, and the cost against the estimate.
"""

from __future__ import annotations

import argparse
import json
import os
import platform
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import uvicorn
from starlette.types import ASGIApp, Receive, Scope, Send

from fontanel.client import Client, ClientError
from fontanel.schemas import EditionOut, EmbedderIn
from fontanel.simulators.embedder import count_tokens, embedder_app

from collection import EMBEDDER, EVIDENCE  # isort: skip
from ingest import documents  # isort: skip

SERVICE, SERVER = 8479, 8478
KILLS = (0.25, 0.5, 0.75)


class Counted:
    """Passes requests on, and counts the texts in them."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app
        self.texts: Counter[str] = Counter()
        self.tokens = 0

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        body = b""

        async def read() -> dict[str, object]:
            nonlocal body
            message = await receive()
            body += message.get("body", b"")
            if message["type"] == "http.request" and not message.get("more_body"):
                texts = json.loads(body)["input"]
                self.texts.update(texts)
                self.tokens += sum(map(count_tokens, texts))
            return dict(message)

        await self.app(scope, read if scope["type"] == "http" else receive, send)


@contextmanager
def served(app: ASGIApp) -> Iterator[str]:
    server = uvicorn.Server(uvicorn.Config(app, port=SERVER, log_level="error"))
    thread = threading.Thread(target=server.run)
    thread.start()
    try:
        yield f"http://127.0.0.1:{SERVER}/v1"
    finally:
        server.should_exit = True
        thread.join()


class Service:
    """The service as a process that can be killed."""

    def __init__(self, data: Path) -> None:
        self.data = data
        self.url = f"http://127.0.0.1:{SERVICE}"

    def start(self) -> str:
        environment = {
            **os.environ,
            "FONTANEL_EMBEDDER": str(EMBEDDER),
            "FONTANEL_EVIDENCE": str(EVIDENCE),
        }
        self.process = subprocess.Popen(
            [
                sys.executable, "-m", "fontanel.cli", "serve",
                "--data", str(self.data), "--port", str(SERVICE),
            ],
            stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True, env=environment,
        )  # fmt: skip
        assert self.process.stdout is not None
        printed = ""
        for line in self.process.stdout:
            printed += line
            if "listens" in line:
                break
        while True:
            try:
                httpx.get(f"{self.url}/health")
                return printed
            except httpx.TransportError:
                time.sleep(0.05)

    def kill(self) -> None:
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()


class Searcher(threading.Thread):
    """Searches all the time; failures while the service runs are counted."""

    def __init__(self, client: Client, kb: str) -> None:
        super().__init__()
        self.client, self.kb = client, kb
        self.down = threading.Event()
        self.ended = threading.Event()
        self.done = self.failed = 0

    def run(self) -> None:
        number = 0
        while not self.ended.wait(0.05):
            number += 1
            down = self.down.is_set()
            try:
                assert self.client.search(self.kb, f"rules of the quay {number}").hits
                self.done += 1
            except (ClientError, httpx.HTTPError, AssertionError):
                self.failed += not (down or self.down.is_set())


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--passages", type=int, default=20_000)
    parser.add_argument("--pause", type=float, default=0.05, help="seconds of a request")
    arguments = parser.parse_args()
    counted = Counted(embedder_app(pause=arguments.pause))
    with tempfile.TemporaryDirectory() as scratch, served(counted) as address:
        service = Service(Path(scratch) / "data")
        printed = service.start()
        password = printed.partition("with the password ")[2].split()[0]
        with Client(service.url) as operator:
            operator.sign_in("operator@localhost", password)
            slug = operator.create_team("Bench").slug
            operator.use_team(slug)
            secret = operator.invite("bench@localhost", "Bench", "owner").secret
            operator.register_embedder(
                EmbedderIn(name="remote", url=address, remote="slow", price=0.02)
            )
        try:
            with Client(service.url, team=slug) as client:
                client.accept_invitation(str(secret), password="a password for the bench")
                measure(client, service, counted, arguments)
        finally:
            service.kill()


def measure(
    client: Client, service: Service, counted: Counted, arguments: argparse.Namespace
) -> None:
    kb = client.create_kb("Bench").slug
    for name, data in documents(None, arguments.passages, short=True):
        client.add_document(kb, data, name)
    while client.show_kb(kb).pending:
        time.sleep(1)
    passages = client.show_kb(kb).passages
    searcher = Searcher(client, kb)
    searcher.start()
    counted.texts.clear()
    counted.tokens = 0
    estimate = client.estimate_edition(kb, "remote")
    started = time.monotonic()
    edition = client.build_edition(kb, client.show_kb(kb).splitting, embedder="remote")
    for share in KILLS:
        while (edition := shown(client, kb)).done < share * edition.total:
            time.sleep(0.2)
        searcher.down.set()
        service.kill()
        service.start()
        searcher.down.clear()
        print(f"killed at {edition.done} of {edition.total} documents")
    while (edition := shown(client, kb)).state == "building":
        time.sleep(0.5)
    took = time.monotonic() - started
    switching = time.monotonic()
    client.activate_edition(kb, 2)
    switched = time.monotonic() - switching
    searcher.ended.set()
    searcher.join()
    sent = {text: times for text, times in counted.texts.items() if "rules of the quay" not in text}
    twice = sum(times - 1 for times in sent.values())
    print(f"{platform.processor() or platform.machine()}, {os.cpu_count()} cores")
    print(f"{passages} passages, {len(sent)} texts sent, {twice} of them twice")
    print(f"{took:.0f} s with three restarts; estimated {estimate.seconds or 0:.0f} s")
    print(f"switched in {switched:.2f} s")
    after = client.estimate_edition(kb, "remote")
    print(f"estimated afterwards: {after.tokens} tokens, {after.texts} texts, {after.seconds} s")
    print(f"tokens: {counted.tokens} read, {edition.tokens} recorded, {estimate.tokens} estimated")
    share = edition.cost / estimate.cost
    print(f"cost: {edition.cost:.5f} of {estimate.cost:.5f} estimated, {share:.3f}")
    print(f"searches: {searcher.done} done, {searcher.failed} failed while the service ran")


def shown(client: Client, kb: str) -> EditionOut:
    return client.list_editions(kb)[1]


if __name__ == "__main__":
    main()
