"""How soon a change is found in a large edition, and what searches take meanwhile.

    .venv/bin/python bench/freshness.py [--passages 100000] [--changes 100]

An edition with synthetic vectors is put into a data directory, and the service's runtime runs on
it. Documents are changed one by one, and each change is timed until keyword search finds it and
until its vector exists, while another thread searches without pause. Last, segments are merged
while searches continue, and the service is restarted on the data.
"""

from __future__ import annotations

import argparse
import os
import platform
import resource
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import httpx
import numpy as np
from sqlalchemy import insert

from collection import EMBEDDER
from fontanel.core.index import Mode, Query, VectorSegment, WordsSegment
from fontanel.core.text.analysis import Analyser
from fontanel.engine.documents.documents import add_document
from fontanel.engine.documents.kbs import create_kb
from fontanel.engine.runtime.runtime import Runtime
from fontanel.records.tables import Document, DocumentState, Edition, Kb, PassageRow, Revision, Team
from fontanel.settings import Settings
from search import body_entry, clustered, texts

#: Sizes of the segments that the edition is cut into: as after a while of adding.
_SEGMENTS = 4


def fill(runtime: Runtime, count: int) -> tuple[str, str, list[str], np.ndarray]:
    """Fill a knowledge base; return its id, its edition's, questions and vectors."""
    passages, questions = texts(count)
    vectors = clustered(count, np.random.default_rng(5))
    analyser = Analyser("en")
    with runtime.records.writing() as session:
        session.add(Team(id="team_a", slug="a", name="A"))
        session.flush()
        kb = create_kb(session, "team_a", "Large", "", runtime.local_models.name)
        edition = session.get_one(Edition, kb.edition_id)
        document = Document(
            id="doc_a",
            team_id="team_a",
            kb_id=kb.id,
            name="all",
            title="All",
            state=DocumentState.INDEXED,
            latest_revision_id="rev_a",
            revision_id="rev_a",
            tags={},
        )
        session.add(document)
        session.flush()
        session.add(
            Revision(
                id="rev_a",
                team_id="team_a",
                document_key=document.key,
                number=1,
                sha256="",
                size=0,
                warnings=[],
                seconds={},
            )
        )
        session.flush()
        for start in range(0, count, 10_000):
            rows = [
                {
                    "id": n + 1,
                    "team_id": "team_a",
                    "edition_id": edition.id,
                    "document_key": document.key,
                    "revision_id": "rev_a",
                    "ordinal": n,
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
            ]
            session.execute(insert(PassageRow), rows)
        step = -(-count // _SEGMENTS)
        for start in range(0, count, step):
            some = enumerate(passages[start : start + step], start=start)
            entries = [body_entry(n + 1, document.key, text, analyser) for n, text in some]
            runtime.editions.write(session, edition, WordsSegment.build(entries))
            ids = np.arange(start + 1, start + len(entries) + 1, dtype=np.int64)
            runtime.editions.write(
                session, edition, VectorSegment(ids, vectors[start : start + len(entries)])
            )
        session.commit()
        return kb.id, edition.id, questions, vectors


class Searcher(threading.Thread):
    """Searches without a pause until told to stop; keeps what each took."""

    def __init__(
        self, runtime: Runtime, edition: str, questions: list[str], vectors: np.ndarray
    ) -> None:
        super().__init__(daemon=True)
        self.taken: list[float] = []
        self.over = threading.Event()
        self._arguments = runtime, edition, questions, vectors

    def run(self) -> None:
        runtime, edition, questions, vectors = self._arguments
        number = 0
        while not self.over.is_set():
            started = time.perf_counter()
            snapshot = runtime.editions.snapshot(edition)
            snapshot.search(
                Query(questions[number % len(questions)], vectors[number * 37 % len(vectors)])
            )
            self.taken.append(1000 * (time.perf_counter() - started))
            number += 1
            # As a server would, let others have their turn.
            time.sleep(0.005)

    def end(self) -> str:
        self.over.set()
        self.join()
        return (
            f"median {np.median(self.taken):.1f} ms, p95 {np.percentile(self.taken, 95):.1f} ms"
            f" ({len(self.taken)})"
        )


def change(runtime: Runtime, kb_id: str, edition: str, number: int) -> tuple[float, float]:
    """Change a document.

    Return the seconds until its keywords, and its vector, are found.
    """
    word = f"zephyr{number}q"
    text = (
        f"# Notice {number % 20}\n\nThe {word} rule holds at berth {number} from the first of the"
        " month until it is withdrawn."
    )
    started = time.perf_counter()
    sha256, size = runtime.blobs.put([text.encode()])
    with runtime.records.writing() as session:
        kb = session.get_one(Kb, kb_id)
        add_document(session, kb, f"notice-{number % 20}.md", sha256, size, None)
        session.commit()
    keyword_only = semantic = 0.0
    vector = np.zeros(384, dtype=np.float32)
    while not semantic:
        snapshot = runtime.editions.snapshot(edition)
        hits = snapshot.search(Query(word, mode=Mode.LEXICAL, limit=1))
        now = time.perf_counter() - started
        if hits and any(term.startswith("zephyr") for term in hits[0].terms):
            keyword_only = keyword_only or now
            (hit,) = snapshot.search(Query(word, vector, Mode.HYBRID, limit=1))
            semantic = now if hit.similarity is not None else 0.0
        time.sleep(0.005)
    return keyword_only, semantic


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--passages", type=int, default=100_000)
    parser.add_argument("--changes", type=int, default=100)
    arguments = parser.parse_args()
    print(f"machine: {platform.machine()}, {os.cpu_count()} cores; {arguments.passages:,} passages")
    with tempfile.TemporaryDirectory() as scratch:
        data = Path(scratch) / "data"
        runtime = Runtime(Settings(data=data, embedder=EMBEDDER, embed_threads=1, idle_seconds=600))
        kb_id, edition, questions, vectors = fill(runtime, arguments.passages)
        runtime.start()
        for number in range(5):
            change(runtime, kb_id, edition, number)
        idle = Searcher(runtime, edition, questions, vectors)
        idle.start()
        time.sleep(10)
        print("searches, idle:          ", idle.end())
        busy = Searcher(runtime, edition, questions, vectors)
        busy.start()
        taken = np.array(
            [change(runtime, kb_id, edition, 5 + n) for n in range(arguments.watchers)]
        )
        print("searches, while changing:", busy.end())
        words, meaning = np.percentile(taken, [50, 95], axis=0).T
        print(
            f"found by words after {words[0]:.2f} s (p95 {words[1]:.2f}), by meaning after"
            f" {meaning[0]:.2f} s (p95 {meaning[1]:.2f})"
        )
        during = Searcher(runtime, edition, questions, vectors)
        during.start()
        started = time.perf_counter()
        runtime.editions.merge_all(edition)
        print(
            f"searches, while all segments are merged ({time.perf_counter() - started:.1f} s):",
            during.end(),
        )
        runtime.stop()
        _open(data)


def _open(data: Path) -> None:
    """Return a service's seconds until ready, and its memory around searches."""
    started = time.perf_counter()
    service = subprocess.Popen(
        [sys.executable, "-m", "fontanel.cli", "serve", "--data", str(data), "--port", "8478"],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env={**os.environ, "FONTANEL_EMBEDDER": str(EMBEDDER)},
    )
    while True:
        try:
            if httpx.get("http://127.0.0.1:8478/health/ready").is_success:
                break
        except httpx.TransportError:
            time.sleep(0.02)
    ready = time.perf_counter() - started
    status = Path(f"/proc/{service.pid}/status").read_text()
    memory = (
        int(next(line for line in status.splitlines() if line.startswith("VmRSS")).split()[1])
        // 1024
    )
    service.terminate()
    service.wait()
    print(f"service ready on the data after {ready:.1f} s, {memory} MB resident")


if __name__ == "__main__":
    resource.setrlimit(resource.RLIMIT_NOFILE, (4096, 4096))
    main()
