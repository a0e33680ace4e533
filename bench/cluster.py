"""Reading on a Dask cluster: two workers against one, and against a local process.

    .venv/bin/python bench/cluster.py [--documents 16] [--pages 40] [--rounds 5]

Each reader has one processor: a local process, a cluster with one worker, and one with two. They
read the same PDF files in turn; the median of the ratios of the rounds counts.
"""

from __future__ import annotations

import argparse
import os
import random
import statistics
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

from reportlab.pdfgen.canvas import Canvas

from collection import EMBEDDER, ROOT
from fontanel import __version__
from fontanel.core.embedding.directory import directory_facts
from fontanel.engine.cluster.connection import Cluster
from fontanel.engine.cluster.tasks import Needs
from fontanel.engine.cluster.workers import ClusterReader, LocalWorkers
from fontanel.engine.workers.messages import DocumentRead, ReadDocument
from fontanel.engine.workers.processes import Worker
from fontanel.facts import SplitSettings

sys.path.insert(0, str(ROOT))
from tests.cluster.dask import Dask
from tests.conftest import until

WORDS = ("tide", "berth", "crane", "gust", "lock", "pilot", "buoy", "mole", "swell", "ferry")


def make_pdf(path: Path, pages: int, seed: int) -> None:
    """Write a PDF of dense text."""
    draw = random.Random(seed)
    canvas = Canvas(str(path))
    for page in range(pages):
        canvas.setFont("Helvetica-Bold", 14)
        canvas.drawString(50, 800, f"Section {page + 1}")
        canvas.setFont("Helvetica", 9)
        for line in range(60):
            canvas.drawString(50, 780 - 12 * line, " ".join(draw.choices(WORDS, k=14)) + ".")
        canvas.showPage()
    canvas.save()


@contextmanager
def on_processor(number: int) -> Iterator[None]:
    """Have processes that are started here use one processor."""
    before = os.sched_getaffinity(0)
    os.sched_setaffinity(0, {number})
    try:
        yield
    finally:
        os.sched_setaffinity(0, before)


def read_all(read: Callable[[ReadDocument], object], paths: list[Path], at_once: int) -> float:
    """Return documents a second."""
    began = time.perf_counter()
    with ThreadPoolExecutor(at_once) as pool:
        requests = [
            ReadDocument(path=str(path), name=path.name, splitting=SplitSettings())
            for path in paths
        ]
        assert all(isinstance(reply, DocumentRead) for reply in pool.map(read, requests))
    return len(paths) / (time.perf_counter() - began)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--documents", type=int, default=16)
    parser.add_argument("--pages", type=int, default=40)
    parser.add_argument("--rounds", type=int, default=5)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        paths = [Path(folder) / f"{number}.pdf" for number in range(options.documents)]
        for number, path in enumerate(paths):
            make_pdf(path, options.pages, number)
        size = sum(path.stat().st_size for path in paths) / 1e6
        print(f"{len(paths)} PDF files of {options.pages} pages, {size:.1f} MB")
        measure(paths, options.rounds)


def measure(paths: list[Path], rounds: int) -> None:
    processors = sorted(os.sched_getaffinity(0))[:2]
    needs = Needs(__version__, directory_facts(EMBEDDER).name)
    rates: dict[str, list[float]] = {}
    with on_processor(processors[0]):
        local = Worker("read", EMBEDDER, 2048)
        local.read(ReadDocument(path=str(paths[0]), name="x.pdf", splitting=SplitSettings()), 600)
    for number in range(rounds):
        rates.setdefault("local", []).append(
            read_all(lambda request: local.read(request, 600), paths, 1)
        )
        for workers in (1, 2):
            with tempfile.TemporaryDirectory() as folder:
                dask = Dask(Path(folder))
                dask.start()
                for worker in range(workers):
                    with on_processor(processors[worker]):
                        dask.add_worker(f"worker-{worker}")
                cluster = Cluster(dask.address, 8, None)
                cluster.start()
                until(lambda: cluster.workers == workers and cluster.available)  # noqa: B023
                reader = ClusterReader(cluster, needs, LocalWorkers([]))
                # The processes start with their first document.
                read_all(lambda request: reader.read(request, 600), paths[: 2 * workers], 4)  # noqa: B023
                rate = read_all(lambda request: reader.read(request, 600), paths, 4)  # noqa: B023
                rates.setdefault(f"{workers} workers", []).append(rate)
                cluster.stop()
                dask.stop()
        print(f"round {number + 1}:", {name: round(many[-1], 2) for name, many in rates.items()})
    local.stop()
    pairs = (("2 workers", "1 workers", "wanted 1.8"), ("1 workers", "local", "wanted .85"))
    for first, second, wanted in pairs:
        ratios = sorted(a / b for a, b in zip(rates[first], rates[second], strict=True))
        shown = ", ".join(f"{ratio:.2f}" for ratio in ratios)
        print(f"{first} against {second}: {statistics.median(ratios):.2f} ({shown}; {wanted})")


if __name__ == "__main__":
    main()
