"""Worker processes.

They respond, are limited, replaced when they die, end when idle.
"""

from __future__ import annotations

import os
import resource
import threading
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from tests.conftest import DOCUMENTS, EMBEDDER, STORM

from fontanel.core.embedding.encoder import OnnxEmbedder
from fontanel.engine.workers.framing import Failed
from fontanel.engine.workers.messages import DocumentRead, PagesRead, ReadDocument, Splitting
from fontanel.engine.workers.processes import Worker, WorkerDied, WorkerOverran
from fontanel.facts import SplitSettings

SETTINGS = SplitSettings(target_tokens=200, min_tokens=60)


@pytest.fixture
def reader() -> Iterator[Worker]:
    worker = Worker("read", EMBEDDER, 1024)
    yield worker
    worker.stop()


def request(path: Path) -> ReadDocument:
    return ReadDocument(path=str(path), name=path.name, splitting=SETTINGS)


def read(worker: Worker, path: Path, seconds: float = 60.0) -> DocumentRead:
    reply = worker.read(request(path), seconds)
    assert isinstance(reply, DocumentRead)
    return reply


def test_a_document_is_read_and_split_elsewhere(reader: Worker, tmp_path: Path) -> None:
    path = tmp_path / "storm-plan.md"
    path.write_bytes(STORM)
    reply = read(reader, path)
    assert reply.media_type == "text/markdown"
    assert reply.reading is not None
    assert reply.reading.title == "Storm plan"
    assert reply.passages


@pytest.fixture
def many_open_files() -> Iterator[None]:
    """As in a service with many open segments: the next descriptors are above 1,023."""
    limits = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (limits[1], limits[1]))
    null = os.open(os.devnull, os.O_RDONLY)
    opened = [null]
    while opened[-1] < 1100:
        opened.append(os.dup(null))
    yield
    for descriptor in opened:
        os.close(descriptor)
    resource.setrlimit(resource.RLIMIT_NOFILE, limits)


def test_workers_start_when_many_files_are_open(
    many_open_files: None, reader: Worker, tmp_path: Path
) -> None:
    path = tmp_path / "storm-plan.md"
    path.write_bytes(STORM)
    assert read(reader, path).passages
    embedder = Worker("embed", EMBEDDER, 1)
    assert embedder.embed(["The gates close at noon."]).shape[0] == 1
    embedder.stop()


@pytest.mark.slow
def test_many_documents_one_after_the_other_all_come_back(reader: Worker) -> None:
    paths = sorted(path for path in DOCUMENTS.rglob("*") if path.is_file()) * 3
    assert all(read(reader, path).about.title for path in paths)


def test_progress_is_reported_page_by_page(reader: Worker) -> None:
    path = DOCUMENTS / "marine-operations" / "pilotage-handbook.pdf"
    reports: list[PagesRead | Splitting] = []
    reader.read(request(path), 60.0, reports.append)
    pages = [report for report in reports if isinstance(report, PagesRead)]
    assert (pages[-1].done, pages[-1].total) == (31, 31)
    assert isinstance(reports[-1], Splitting)


def test_what_takes_too_long_is_killed_and_the_next_is_read(reader: Worker, tmp_path: Path) -> None:
    path = tmp_path / "storm-plan.md"
    path.write_bytes(STORM)
    with pytest.raises(WorkerOverran):
        read(reader, path, seconds=0.0)
    assert read(reader, path).passages


def test_a_process_that_dies_is_replaced(reader: Worker, tmp_path: Path) -> None:
    path = tmp_path / "storm-plan.md"
    path.write_bytes(STORM)
    read(reader, path)
    assert reader._process is not None
    os.kill(reader._process.pid, 9)
    reader._process.wait()
    assert read(reader, path).passages


def test_a_process_outlives_the_thread_that_asked_for_it(reader: Worker, tmp_path: Path) -> None:
    path = tmp_path / "storm-plan.md"
    path.write_bytes(STORM)
    asking = threading.Thread(target=read, args=(reader, path))
    asking.start()
    asking.join()
    removed = Path(f"/proc/self/task/{asking.native_id}")
    while removed.exists():
        os.sched_yield()
    assert reader._process is not None
    first = reader._process
    assert read(reader, path).passages
    assert reader._process is first
    assert first.poll() is None


def test_memory_is_bounded(tmp_path: Path) -> None:
    small = Worker("read", tmp_path, 220)
    path = tmp_path / "large.txt"
    path.write_bytes(b"word " * 30_000_000)
    try:
        reply = small.read(request(path), 60.0)
        assert isinstance(reply, Failed)
        assert reply.code == "too_large"
    except WorkerDied:
        pass  # the limit can also strike where Python cannot catch it
    finally:
        small.stop()


def test_an_idle_process_ends_and_a_busy_one_does_not(reader: Worker, tmp_path: Path) -> None:
    path = tmp_path / "storm-plan.md"
    path.write_bytes(STORM)
    read(reader, path)
    reader.end_if_idle(3600.0)
    assert reader._process is not None
    reader.end_if_idle(-1.0)
    assert reader._process is None


@pytest.mark.slow
def test_vectors_come_back_whole() -> None:
    worker = Worker("embed", EMBEDDER, 2)
    texts = [f"Buoy number {n} was lifted in the year {1900 + n}." for n in range(300)]
    try:
        vectors = worker.embed(texts)
    finally:
        worker.stop()
    assert vectors.shape == (300, 384)
    alone = OnnxEmbedder(EMBEDDER).embed(texts)
    assert np.array_equal(vectors, alone)


def test_a_missing_model_is_a_dead_worker(tmp_path: Path) -> None:
    worker = Worker("embed", tmp_path, 1)
    with pytest.raises(WorkerDied):
        worker.embed(["text"])
    worker.stop()


def test_a_reply_of_another_kind_kills_the_process(reader: Worker, tmp_path: Path) -> None:
    path = tmp_path / "storm-plan.md"
    path.write_bytes(STORM)
    read(reader, path)
    assert reader._process is not None
    first = reader._process
    # The process answers a request that it does not know by ending.
    with pytest.raises(WorkerDied):
        reader.embed(["text"])
    assert first.poll() is not None
    assert read(reader, path).passages
