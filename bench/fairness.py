"""How long one team's document and question wait while another team adds thousands.

    .venv/bin/python bench/fairness.py [--documents 5000] [--rounds 5] [--askers 8]

One team adds its documents through the client. As soon as all are stored, the other team adds
documents one after the other, and waits each time until semantic search finds it; the goal is 10
seconds. Then the first team asks questions from several threads, and the other asks one at a time.
"""

from __future__ import annotations

import argparse
import os
import platform
import random
import re
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from collection import EMBEDDER, ROOT
from fontanel.client import Client

sys.path.insert(0, str(ROOT))
from tests.conftest import Service


def texts(count: int) -> Iterator[tuple[str, bytes]]:
    """Yield documents of about a page, none with a sentence of another."""
    files = sorted((ROOT / "demo" / "text").glob("*/*.md"))
    sentences = [
        sentence
        for path in files
        for sentence in re.split(r"(?<=\.)\s+", path.read_text().split("---\n", 2)[2])
        if 40 < len(sentence) < 200 and "\n" not in sentence
    ]
    for number in range(count):
        chosen = random.Random(number).sample(sentences, 20)
        body = " ".join(one.replace(".", f" in case {number}.") for one in chosen)
        yield f"case-{number}.md", f"# Case {number}\n\n{body}\n".encode()


def percentiles(seconds: list[float]) -> str:
    middle, high = np.percentile(seconds, [50, 95])
    return f"median {middle:.2f} s, p95 {high:.2f} s, longest {max(seconds):.2f} s"


def measure_ingest(large: Client, small: Client, documents: int, rounds: int) -> None:
    """Add the large team's documents, then the small team's one at a time."""
    began = time.perf_counter()
    with ThreadPoolExecutor(4) as pool:
        for _ in pool.map(
            lambda one: large.add_document("all", one[1], name=one[0]), texts(documents)
        ):
            pass
    stored = time.perf_counter() - began
    print(f"{documents:,} documents stored in {stored:.0f} s", flush=True)
    seconds = []
    for name, data in texts(rounds):
        started = time.perf_counter()
        added = small.add_document("all", data.replace(b"case", b"small"), name=name)
        document = small.wait_for_document("all", added.document.id)
        assert document.state == "indexed", document.error
        seconds.append(time.perf_counter() - started)
        pending = large.show_kb("all").pending
        print(f"indexed after {seconds[-1]:.2f} s; {pending:,} of the large team wait", flush=True)
    print(f"one document of another team: {percentiles(seconds)} (wanted 10 s)", flush=True)


@contextmanager
def asking_all_the_time(client: Client, askers: int) -> Iterator[None]:
    """Ask questions from several threads until the block ends."""
    done = threading.Event()

    def ask() -> None:
        while not done.is_set():
            client.ask("all", "What must a ship report before it enters the harbour?")

    threads = [threading.Thread(target=ask) for _ in range(askers)]
    for thread in threads:
        thread.start()
    try:
        yield
    finally:
        done.set()
        for thread in threads:
            thread.join()


def measure_asking(large: Client, small: Client, askers: int, rounds: int) -> None:
    """Ask as the small team, alone and while the large team asks."""

    def seconds_of_questions() -> list[float]:
        taken = []
        for number in range(rounds * 4):
            started = time.perf_counter()
            small.ask("all", f"Which rule is for case {number % rounds}?")
            taken.append(time.perf_counter() - started)
        return taken

    seconds_of_questions()
    print(f"questions alone: {percentiles(seconds_of_questions())}", flush=True)
    with asking_all_the_time(large, askers):
        print(
            f"while another team has {askers} askers: {percentiles(seconds_of_questions())}",
            flush=True,
        )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--documents", type=int, default=5000)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--askers", type=int, default=8)
    arguments = parser.parse_args()
    print(f"machine: {platform.machine()}, {os.cpu_count()} cores")
    with tempfile.TemporaryDirectory() as scratch:
        service = Service(Path(scratch) / "data", {"FONTANEL_EMBEDDER": str(EMBEDDER)}).start()
        keys = []
        with service.operator() as operator:
            for name in ("Large", "Small"):
                operator.create_team(name)
                operator.use_team(name.lower())
                keys.append(operator.make_key("bench", "editor", expires_in_days=1).secret)
        large, small = (
            Client(service.url, key, team)
            for key, team in zip(keys, ("large", "small"), strict=True)
        )
        for client in (large, small):
            client.create_kb("All")
        measure_ingest(large, small, arguments.documents, arguments.rounds)
        measure_asking(large, small, arguments.askers, arguments.rounds)
        service.stop()


if __name__ == "__main__":
    main()
