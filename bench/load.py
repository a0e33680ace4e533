"""Searches over HTTP by many clients at once, against the same in one process.

    .venv/bin/python bench/load.py [--passages 100000] [--clients 16] [--searches 1000]

A knowledge base with synthetic vectors is searched in hybrid mode: first in this process, by one
thread that does what the service does for a search; then over HTTP, by clients that each search
again as soon as they get a response. Clients and service share the machine's processors.
"""

from __future__ import annotations

import argparse
import asyncio
import json
import os
import platform
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from collection import EMBEDDER, ROOT
from fontanel.client import Client
from fontanel.engine.answering.retrieval import KbKnowledge, Options
from fontanel.engine.runtime.runtime import Runtime
from fontanel.records.scope import TeamScope
from fontanel.records.tables import Edition
from fontanel.settings import Settings
from freshness import fill

sys.path.insert(0, str(ROOT))
from tests.conftest import Service


def spread(seconds: list[float]) -> str:
    return (
        f"median {1000 * np.median(seconds):.1f} ms, p95 {1000 * np.percentile(seconds, 95):.1f} ms"
    )


def in_process(runtime: Runtime, kb_id: str, questions: list[str]) -> float:
    """Searches a second, one after the other."""
    taken = []
    began = time.perf_counter()
    for question in questions:
        started = time.perf_counter()
        with runtime.records.reading() as session:
            scope = TeamScope(session, "team_a")
            kb = scope.kb(kb_id)
            edition = session.get_one(Edition, kb.edition_id)
            snapshot = runtime.editions.snapshot(edition.id)
            knowledge = KbKnowledge(
                scope=scope,
                kb=kb,
                snapshot=snapshot,
                embedder=edition.embedder,
                local_models=runtime.local_models,
            )
            assert knowledge.search(question, Options()).hits
        taken.append(time.perf_counter() - started)
    rate = len(questions) / (time.perf_counter() - began)
    print(f"in process, one client: {rate:.0f} searches a second; {spread(taken)}", flush=True)
    return rate


async def over_http(url: str, key: str, kb: str, questions: list[str], clients: int) -> float:
    """Return searches per second over plain persistent connections.

    A client library would cost as much as the search.
    """
    host, port = url.removeprefix("http://").split(":")
    taken: list[float] = []
    waiting = iter(questions)

    async def client() -> None:
        reader, writer = await asyncio.open_connection(host, int(port))
        for question in waiting:
            body = json.dumps({"question": question}).encode()
            head = (
                f"POST /api/v1/teams/a/kbs/{kb}/search HTTP/1.1\r\nHost: {host}\r\nAuthorization:"
                f" Bearer {key}\r\nContent-Type: application/json\r\nContent-Length:"
                f" {len(body)}\r\n\r\n"
            )
            started = time.perf_counter()
            writer.write(head.encode() + body)
            status = await reader.readline()
            assert b" 200 " in status, status
            length = 0
            while (line := await reader.readline()) != b"\r\n":
                if line.lower().startswith(b"content-length:"):
                    length = int(line.split(b":")[1])
            await reader.readexactly(length)
            taken.append(time.perf_counter() - started)
        writer.close()

    began = time.perf_counter()
    await asyncio.gather(*(client() for _ in range(clients)))
    rate = len(questions) / (time.perf_counter() - began)
    print(
        f"over HTTP, {clients} clients: {rate:.0f} searches a second; {spread(taken)}", flush=True
    )
    return rate


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--passages", type=int, default=100_000)
    parser.add_argument("--clients", type=int, default=16)
    parser.add_argument("--searches", type=int, default=1000)
    arguments = parser.parse_args()
    print(f"machine: {platform.machine()}, {os.cpu_count()} cores; {arguments.passages:,} passages")
    with tempfile.TemporaryDirectory() as scratch:
        data = Path(scratch) / "data"
        runtime = Runtime(Settings(data=data, embedder=EMBEDDER, embed_threads=1))
        kb_id, edition, questions, _ = fill(runtime, arguments.passages)
        runtime.start()
        password = runtime.operator_password
        runtime.editions.merge_all(edition)
        asked = [questions[n % len(questions)] for n in range(arguments.searches)]
        in_process(runtime, kb_id, questions[:50])  # to warm up
        alone = in_process(runtime, kb_id, asked)
        runtime.stop()
        service = Service(data).start()
        with Client(service.url) as operator:
            operator.sign_in("operator@localhost", str(password))
            operator.use_team("a")
            key = operator.make_key("load", "reader", expires_in_days=1).secret
        asyncio.run(over_http(service.url, key, kb_id, questions[:50], arguments.clients))
        many = asyncio.run(over_http(service.url, key, kb_id, asked, arguments.clients))
        service.stop()
        print(f"over HTTP / in process: {many / alone:.2f} (wanted 0.5)")


if __name__ == "__main__":
    main()
