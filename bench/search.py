"""Search latency at several sizes against a bare matrix product on the same vectors, in one run."""

from __future__ import annotations

import argparse
import os
import platform
import time
from collections.abc import Callable

import numpy as np

from fontanel.core.analysis import Analyser
from fontanel.core.index import Mode, Query, Snapshot, VectorSegment, WordsEntry, WordsSegment

DIMENSIONS = 384


def made_up(count: int, random: np.random.Generator) -> tuple[Snapshot, list[str], np.ndarray]:  # type: ignore[type-arg]
    """Passages of 90 words with Zipf's frequencies, and unit vectors in clusters; questions of six words."""
    vocabulary = np.array([f"word{n}" for n in range(30_000)])
    weights = 1.0 / np.arange(1, len(vocabulary) + 1)
    weights /= weights.sum()
    words = random.choice(vocabulary, (count, 90), p=weights)
    entries = [
        WordsEntry(i + 1, i // 10, (words[i, :3].tolist(), words[i, 3:8].tolist(), words[i].tolist()))
        for i in range(count)
    ]
    centres = random.normal(size=(200, DIMENSIONS))
    vectors = centres[random.integers(0, 200, count)] + 0.7 * random.normal(size=(count, DIMENSIONS))
    vectors = (vectors / np.linalg.norm(vectors, axis=1, keepdims=True)).astype(np.float32)
    snapshot = Snapshot(
        [WordsSegment.build(entries)], [VectorSegment(np.arange(1, count + 1, dtype=np.int64), vectors)]
    )
    rare = random.choice(vocabulary[200:5000], (100, 6))
    return snapshot, [" ".join(row) for row in rare], vectors


def times(call: Callable[[int], object], rounds: int) -> tuple[float, float]:
    """Median and 95th percentile in milliseconds, after a warm-up."""
    for i in range(5):
        call(i)
    taken = []
    for i in range(rounds):
        started = time.perf_counter()
        call(i)
        taken.append(1000 * (time.perf_counter() - started))
    return float(np.median(taken)), float(np.percentile(taken, 95))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sizes", type=int, nargs="+", default=[1_000, 20_000])
    arguments = parser.parse_args()
    random = np.random.default_rng(11)
    print(f"machine: {platform.machine()}, {os.cpu_count()} cores, numpy {np.__version__}; milliseconds, median (p95)")
    print(
        f"{'passages':>9} {'bare product':>16} {'vector':>16} {'lexical':>16} {'hybrid':>16} {'vector/bare':>12} {'hybrid/bare':>12}"
    )
    analyser = Analyser("en")
    for size in arguments.sizes:
        snapshot, questions, vectors = made_up(size, random)
        asked = vectors[random.integers(0, size, 100)] + 0.02
        assert analyser.terms(questions[0])

        def bare(i: int) -> object:
            scores = vectors @ asked[i % 100]  # noqa: B023
            top = np.argpartition(-scores, 10)[:10]
            return top[np.argsort(-scores[top])]

        def search(mode: Mode) -> Callable[[int], object]:
            return lambda i: snapshot.search(Query(questions[i % 100], asked[i % 100], mode, 10))  # noqa: B023

        results = [times(bare, 200)] + [times(search(mode), 200) for mode in (Mode.VECTOR, Mode.LEXICAL, Mode.HYBRID)]
        shown = " ".join(f"{median:8.2f} ({p95:5.2f})" for median, p95 in results)
        print(f"{size:>9} {shown} {results[1][0] / results[0][0]:>12.2f} {results[3][0] / results[0][0]:>12.2f}")


if __name__ == "__main__":
    main()
