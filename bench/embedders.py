"""Texts per second through an embedder over HTTP, against its client alone, in one run.

The simulated server takes 50 ms a request: with the defaults it limits the speed. An edition is
built with it while the service runs; then the same texts go through the bare client, with as many
requests at once. The goal is 0.9. What a search adds to the time of the server for a question's
vector should be below 10 ms.
"""

from __future__ import annotations

import argparse
import os
import platform
import re
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx

from fontanel.client import Client
from fontanel.llm import Caller, EmbeddingClient, EmbeddingEndpoint
from fontanel.schemas import EmbedderIn, Splitting

from collection import EMBEDDER, EVIDENCE  # isort: skip
from ingest import documents  # isort: skip

SERVICE, SERVER = 8479, 8478
PAUSE = 0.05


@contextmanager
def process(*arguments: str, ready: str) -> Iterator[str]:
    """Run a command of ours until the block ends; yield the line that says it is ready."""
    environment = {
        **os.environ,
        "FONTANEL_EMBEDDER": str(EMBEDDER),
        "FONTANEL_EVIDENCE": str(EVIDENCE),
    }
    started = subprocess.Popen(
        [sys.executable, "-m", "fontanel.cli", *arguments],
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
        env=environment,
    )
    assert started.stdout is not None
    lines = ""
    for line in started.stdout:
        lines += line
        if ready in line:
            break
    try:
        yield lines
    finally:
        started.terminate()
        started.wait()


def reached(url: str) -> None:
    while True:
        try:
            httpx.get(url)
            return
        except httpx.TransportError:
            time.sleep(0.1)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--passages", type=int, default=3000)
    parser.add_argument("--batch", type=int, default=8, help="texts of a request")
    parser.add_argument("--at-once", type=int, default=1, help="requests at once")
    arguments = parser.parse_args()
    url, address = f"http://127.0.0.1:{SERVICE}", f"http://127.0.0.1:{SERVER}/v1"
    with (
        tempfile.TemporaryDirectory() as scratch,
        process(
            "simulator", "embedder", "--port", str(SERVER), "--pause", str(PAUSE),
            ready="listens",
        ),
        process(
            "serve", "--data", str(Path(scratch) / "data"), "--port", str(SERVICE), ready="listens"
        ) as printed,
    ):  # fmt: skip
        reached(address)
        password = re.search(r"with the password (\S+)", printed)
        assert password is not None
        with Client(url) as operator:
            operator.sign_in("operator@localhost", password.group(1))
            slug = operator.create_team("Bench").slug
            operator.use_team(slug)
            secret = operator.invite("bench@localhost", "Bench", "owner").secret
            operator.register_embedder(
                EmbedderIn(
                    name="remote",
                    url=address,
                    remote="slow",
                    batch=arguments.batch,
                    at_once=arguments.at_once,
                )
            )
        with Client(url, team=slug) as client:
            client.accept_invitation(str(secret), password="a password for the bench")
            measure(client, arguments, address)


def measure(client: Client, arguments: argparse.Namespace, address: str) -> None:
    kb = client.create_kb("Bench").slug
    for name, data in documents(None, arguments.passages, short=True):
        client.add_document(kb, data, name)
    while client.show_kb(kb).pending:
        time.sleep(0.5)
    texts = [
        passage.text
        for document in client.list_documents(kb)
        for passage in client.list_passages(kb, document.name)
    ]
    estimate = client.estimate_edition(kb, "remote")
    splitting = Splitting(windows=False)
    # With vectors that are kept already: all that building takes besides embedding.
    started = time.monotonic()
    client.build_edition(kb, splitting, wait=True)
    rest = time.monotonic() - started
    started = time.monotonic()
    client.build_edition(kb, splitting, embedder="remote", wait=True)
    took = time.monotonic() - started
    built = len(texts) / took

    endpoint = EmbeddingEndpoint(
        "remote",
        address,
        "slow",
        dimensions=256,
        batch=arguments.batch,
        at_once=arguments.at_once,
    )
    caller = Caller()
    bare_client = EmbeddingClient(caller)
    started = time.monotonic()
    bare_client.embed(endpoint, texts)
    bare = len(texts) / (time.monotonic() - started)

    client.activate_edition(kb, 3)
    alone, searched, own = [], [], []
    for number in range(40):
        question = f"When does crane {number} stop in the wind?"
        begun = time.monotonic()
        bare_client.embed(endpoint, [question])
        alone.append(time.monotonic() - begun)
        begun = time.monotonic()
        client.search(kb, question, mode="vector")
        searched.append(time.monotonic() - begun)
        begun = time.monotonic()
        client.search(kb, question, mode="vector")  # its vector is kept
        own.append(time.monotonic() - begun)
    caller.close()
    added = statistics.median(
        with_ - without - kept for with_, without, kept in zip(searched, alone, own, strict=True)
    )
    print(f"{platform.machine()}, {os.cpu_count()} processors, Python {platform.python_version()}")
    print(f"{len(texts)} passages, {estimate.tokens} tokens estimated")
    print(f"bare client        {bare:8.0f} texts/s")
    print(f"building an edition{built:8.0f} texts/s   {built / bare:.2f}")
    print(f"it took {took:.1f} s, and {rest:.1f} s with vectors that are kept already")
    print(
        f"question: server {1000 * statistics.median(alone):.1f} ms, added by embedding it"
        f" {1000 * added:.1f} ms"
    )


if __name__ == "__main__":
    main()
