"""How soon a service with a large edition is ready, and its memory.

    .venv/bin/python bench/opening.py [--passages 1000000] [--searches 200]

A knowledge base (windows of the manuals, ten per document; synthetic vectors in clusters, with
cells) is put into a data directory. The service is started on it several times: seconds until
`/health/ready` responds, the first search, and the resident memory at rest, after hybrid searches,
and after the checksums were verified.
"""

from __future__ import annotations

import argparse
import os
import platform
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from sqlalchemy import insert

from collection import EMBEDDER, ROOT
from fontanel.client import Client
from fontanel.core.index import VectorSegment, merge_vectors
from fontanel.engine.documents.kbs import create_kb
from fontanel.engine.runtime.runtime import Runtime
from fontanel.records.tables import (
    Document,
    DocumentState,
    Edition,
    PassageRow,
    Revision,
    Team,
    now,
)
from fontanel.settings import Settings
from search import clustered, kept_words, texts

sys.path.insert(0, str(ROOT))
from tests.conftest import Service

EACH = 10


def fill(runtime: Runtime, count: int) -> tuple[str, list[str], float]:
    """Fill a knowledge base.

    Return its id, questions, and the megabytes of its vectors.
    """
    passages, questions = texts(count)
    words, _ = kept_words(count, passages)
    ids = np.arange(1, count + 1, dtype=np.int64)
    cut = merge_vectors(
        [VectorSegment(ids, clustered(count, np.random.default_rng(5)))],
        [np.ones(count, dtype=bool)],
        least=1,
    )
    with runtime.records.writing() as session:
        session.add(Team(id="team_a", slug="a", name="A"))
        session.flush()
        kb = create_kb(session, "team_a", "Large", "", runtime.local_models.name)
        edition = session.get_one(Edition, kb.edition_id)
        for start in range(0, count, 10_000):
            keys = range(start // EACH, min(start + 10_000, count) // EACH)
            session.execute(
                insert(Document),
                [
                    {
                        "key": key,
                        "id": f"doc_{key}",
                        "team_id": "team_a",
                        "kb_id": kb.id,
                        "name": f"d/{key}",
                        "title": f"Document {key}",
                        "state": DocumentState.INDEXED,
                        "latest_revision_id": f"rev_{key}",
                        "revision_id": f"rev_{key}",
                        "tags": {},
                        "created_at": now(),
                        "changed_at": now(),
                    }
                    for key in keys
                ],
            )
            session.execute(
                insert(Revision),
                [
                    {
                        "id": f"rev_{key}",
                        "team_id": "team_a",
                        "document_key": key,
                        "number": 1,
                        "sha256": f"{key:064x}",
                        "size": 1,
                        "warnings": [],
                        "seconds": {},
                        "created_at": now(),
                        "passages": EACH,
                    }
                    for key in keys
                ],
            )
            session.execute(
                insert(PassageRow),
                [
                    {
                        "id": n + 1,
                        "team_id": "team_a",
                        "edition_id": edition.id,
                        "document_key": n // EACH,
                        "revision_id": f"rev_{n // EACH}",
                        "ordinal": n % EACH,
                        "start": 0,
                        "end": 1,
                        "text": text,
                        "context": "",
                        "tokens": 100,
                        "parts": [],
                        "locator": {"heading_path": [], "page": None, "anchor": None},
                        "embedded_text": "",
                    }
                    for n, text in enumerate(passages[start : start + 10_000], start=start)
                ],
            )
        runtime.editions.write(session, edition, words)
        runtime.editions.write(session, edition, cut)
        session.commit()
        return kb.id, questions, cut.vectors.nbytes / 1e6


def resident(service: Service) -> None:
    """Return megabytes of the service: its own, programs, mapped vectors and keywords."""
    assert service.process is not None
    stored = dict.fromkeys(("own", "programs", "vectors", "words"), 0)
    kind = "own"
    for line in Path(f"/proc/{service.process.pid}/smaps").read_text().splitlines():
        if line.startswith("Rss:"):
            stored[kind] += int(line.split()[1])
        elif "-" in line.split(" ")[0]:
            path = line.split(maxsplit=5)[5] if len(line.split(maxsplit=5)) > 5 else ""
            name = path.rsplit("/", 1)[-1].split("_")[0]
            kind = name if name in stored else "programs" if path.startswith("/") else "own"
    message = ", ".join(f"{kind} {size // 1024:,}" for kind, size in stored.items())
    print(f"  resident {sum(stored.values()) // 1024:,} MB: {message}", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--passages", type=int, default=1_000_000)
    parser.add_argument("--searches", type=int, default=200)
    arguments = parser.parse_args()
    print(
        f"machine: {platform.machine()}, {os.cpu_count()} cores; {arguments.passages:,} passages",
        flush=True,
    )
    with tempfile.TemporaryDirectory(dir=ROOT / "var") as scratch:
        data = Path(scratch) / "data"
        runtime = Runtime(Settings(data=data, embedder=EMBEDDER))
        kb, questions, vectors = fill(runtime, arguments.passages)
        runtime.start()
        password = runtime.operator_password
        runtime.stop()
        segments = sum(file.stat().st_size for file in (data / "editions").glob("*/*")) / 1e6
        records = (data / "fontanel.db").stat().st_size / 1e6
        print(
            f"vectors {vectors:,.0f} MB, all segments {segments:,.0f} MB, records"
            f" {records:,.0f} MB",
            flush=True,
        )
        for _ in range(3):
            # As on a machine where Python may keep what it compiled.
            service = Service(data, {"PYTHONDONTWRITEBYTECODE": ""})
            began = time.perf_counter()
            service.start()
            ready = time.perf_counter() - began
            with Client(service.url) as client:
                client.sign_in("operator@localhost", str(password))
                client.use_team("a")
                key = client.make_key("opening", "reader").secret
            with Client(service.url, key, "a") as client:
                began = time.perf_counter()
                client.search(kb, questions[0])
                first = time.perf_counter() - began
                print(f"ready after {ready:.2f} s, the first search took {first:.2f} s", flush=True)
                resident(service)
                taken = []
                for question in questions[: arguments.searches]:
                    began = time.perf_counter()
                    client.search(kb, question)
                    taken.append(time.perf_counter() - began)
                print(
                    f"{len(taken)} searches over HTTP: median {1000 * np.median(taken):.0f} ms, p95"
                    f" {1000 * np.percentile(taken, 95):.0f} ms"
                )
                resident(service)
            service.stop()


if __name__ == "__main__":
    main()
