"""How fast search is.

Keywords against SQLite's FTS5, vectors against a bare product.

    .venv/bin/python bench/search.py [--sizes 1000 10000 100000] [--cells 1000000] [--skip-words]

Passages are windows of 160 words over the manuals that `bench/collections.sh` fetches (overlapping
where there are not enough); questions are those of `bench/questions` and titles of sections, 500 in
all. Vectors are synthetic: unit vectors in clusters.
"""

from __future__ import annotations

import argparse
import json
import os
import platform
import random
import re
import sqlite3
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import numpy.typing as npt

from collection import CACHE, ROOT
from fontanel.core.index import (
    Mode,
    Query,
    Snapshot,
    VectorSegment,
    WordsEntry,
    WordsSegment,
    merge_vectors,
    merge_words,
    write_words,
)
from fontanel.core.index.files import SegmentDamaged
from fontanel.core.reading import ReadingFailed, read
from fontanel.core.text.analysis import STOP_WORDS, Analyser

DIMENSIONS = 384
WORDS = 160
Floats = npt.NDArray[np.float32]


def texts(count: int) -> tuple[list[str], list[str]]:
    """So many passages of real text, and 500 questions."""
    kept = CACHE / "manuals.json"
    if not kept.exists():
        results: list[list[str]] = []
        titles: list[str] = []
        for path in sorted((ROOT / "var/collections").rglob("*.html")):
            if not path.is_file() or re.search(r"\.(de|es|fr|it|ja|nl|pl|pt)\.html", str(path)):
                continue
            try:
                reading = read(path.read_bytes(), path.name)
            except ReadingFailed:
                continue
            results.append(reading.text.split())
            titles += [
                reading.text[b.start : b.end] for b in reading.blocks if b.kind == "heading"
            ][:3]
        kept.parent.mkdir(parents=True, exist_ok=True)
        kept.write_text(json.dumps([results, titles]))
    documents, titles = json.loads(kept.read_text())
    questions = [
        json.loads(line)["question"]
        for path in sorted(Path(ROOT / "bench/questions").glob("*.jsonl"))
        for line in path.read_text().splitlines()
    ]
    rng = random.Random(3)
    # Section titles resemble what people type; those of three words or more.
    questions = (questions + rng.sample(sorted({t for t in titles if len(t.split()) > 3}), 500))[
        :500
    ]
    passages: list[str] = []
    shift = 0
    while len(passages) < count:
        for words in documents:
            passages += [
                " ".join(words[at : at + WORDS]) for at in range(shift, len(words) - 20, WORDS)
            ]
        shift += 23
    rng.shuffle(passages)
    return passages[:count], questions


def body_entry(passage_id: int, document_key: int, text: str, analyser: Analyser) -> WordsEntry:
    """A passage that is all body, without title, headings or description."""
    terms, positions = analyser.positions(text)
    empty = np.zeros(0, dtype=np.int32)
    return WordsEntry(
        passage_id, document_key, ([], [], terms, []), (empty, empty, positions, empty)
    )


def words_snapshot(passages: list[str]) -> tuple[WordsSegment, float]:
    analyser = Analyser("en")
    started = time.perf_counter()
    parts = []
    for start in range(0, len(passages), 50_000):
        some = enumerate(passages[start : start + 50_000], start=start)
        entries = [body_entry(number + 1, number // 10, text, analyser) for number, text in some]
        parts.append(WordsSegment.build(entries))
    segment = (
        parts[0]
        if len(parts) == 1
        else merge_words(parts, [np.ones(len(p), dtype=bool) for p in parts])
    )
    return segment, time.perf_counter() - started


def kept_words(size: int, passages: list[str]) -> tuple[WordsSegment, float]:
    """Return the keyword segment, and the seconds to build it; 0 if it was cached."""
    path = CACHE / f"words-{size}"
    try:
        return WordsSegment.open(path), 0.0
    except (OSError, SegmentDamaged):
        segment, seconds = words_snapshot(passages)
        write_words(path, segment)
        return segment, seconds


def clustered(count: int, rng: np.random.Generator) -> Floats:
    """Unit vectors in clusters of clusters."""
    centres = rng.normal(size=(max(20, count // 500), DIMENSIONS)).astype(np.float32)
    out = np.empty((count, DIMENSIONS), dtype=np.float32)
    for start in range(0, count, 50_000):
        some = out[start : start + 50_000]
        some[:] = centres[rng.integers(0, len(centres), len(some))] + 0.7 * rng.normal(
            size=some.shape
        ).astype(np.float32)
        some /= np.linalg.norm(some, axis=1, keepdims=True)
    return out


def timed(call: Callable[[int], object], rounds: int) -> tuple[float, float]:
    """Median and 95th percentile in milliseconds, after a warm-up."""
    for i in range(5):
        call(i)
    taken = []
    for i in range(rounds):
        started = time.perf_counter()
        call(i)
        taken.append(1000 * (time.perf_counter() - started))
    return float(np.median(taken)), float(np.percentile(taken, 95))


def in_turns(
    first: Callable[[int], object], second: Callable[[int], object], questions: int, rounds: int = 3
) -> tuple[tuple[float, float], tuple[float, float]]:
    """Time two functions in turns over all questions, keeping the best time of each."""
    least = np.full((2, questions), np.inf)
    for _ in range(rounds):
        for way, call in enumerate((first, second)):
            for i in range(questions):
                started = time.perf_counter()
                call(i)
                least[way, i] = min(least[way, i], 1000 * (time.perf_counter() - started))
    one, two = ((float(np.median(times)), float(np.percentile(times, 95))) for times in least)
    return one, two


def full_text(passages: list[str]) -> sqlite3.Connection:
    connection = sqlite3.connect(":memory:")
    connection.execute("CREATE VIRTUAL TABLE f USING fts5(body, tokenize='porter')")
    connection.executemany("INSERT INTO f(rowid, body) VALUES (?, ?)", enumerate(passages, 1))
    connection.execute("INSERT INTO f(f) VALUES ('optimize')")
    return connection


def match_of(question: str) -> str:
    words = [w for w in re.findall(r"\w+", question.lower()) if w not in STOP_WORDS]
    return " OR ".join(f'"{word}"' for word in words) or '"nothing"'


def keyword_only(size: int) -> None:
    passages, questions = texts(size)
    # The largest takes ten minutes to build.
    segment, seconds = kept_words(size, passages) if size >= 1_000_000 else words_snapshot(passages)
    megabytes = sum(map(len, passages)) / 1e6
    analyser = Analyser("en")
    started = time.perf_counter()
    for text in passages[:100_000]:
        analyser.terms(text)
    analysis = megabytes * min(1.0, 100_000 / len(passages)) / (time.perf_counter() - started)
    snapshot = Snapshot([segment])
    connection = full_text(passages)
    asked = [match_of(question) for question in questions]
    rounds = len(questions)

    def other(i: int) -> object:
        return connection.execute(
            "SELECT rowid FROM f WHERE f MATCH ? ORDER BY bm25(f) LIMIT 10", (asked[i % rounds],)
        ).fetchall()

    def own(i: int) -> object:
        return snapshot.search(
            Query(questions[i % rounds], None, Mode.LEXICAL, 10, per_document=10, fold=False)
        )

    a, b = in_turns(other, own, rounds, 3 if size < 1_000_000 else 1)
    print(
        f"{size:>9,} FTS5 {a[0]:8.2f} ({a[1]:7.2f})  own {b[0]:6.2f} ({b[1]:6.2f})  times faster"
        f" {a[0] / b[0]:5.1f} ({a[1] / b[1]:5.1f})  indexed in {seconds:.1f} s, analysis"
        f" {analysis:.1f} MB/s"
    )


def semantic(size: int, *, words: bool) -> None:
    rng = np.random.default_rng(11)
    vectors = clustered(size, rng)
    asked = vectors[rng.integers(0, size, 200)] + 0.02 * rng.normal(size=(200, DIMENSIONS)).astype(
        np.float32
    )
    ids = np.arange(1, size + 1, dtype=np.int64)
    passages, questions = texts(size) if words else ([""] * size, [""] * 200)
    segment = words_snapshot(passages)[0] if words else _without_words(size)
    snapshot = Snapshot([segment], [VectorSegment(ids, vectors)])

    def bare(i: int) -> object:
        scores = vectors @ asked[i % 200]
        top = np.argpartition(-scores, 10)[:10]
        return top[np.argsort(-scores[top])]

    def search(mode: Mode) -> Callable[[int], object]:
        return lambda i: snapshot.search(
            Query(questions[i % len(questions)], asked[i % 200], mode, 10)
        )

    a, b = timed(bare, 200), timed(search(Mode.VECTOR), 200)
    line = (
        f"{size:>9,} bare product {a[0]:7.2f} ({a[1]:7.2f})  exact {b[0]:7.2f} ({b[1]:7.2f})  ratio"
        f" {b[0] / a[0]:.2f}"
    )
    if words:
        c = timed(search(Mode.HYBRID), 500)
        line += f"  hybrid {c[0]:7.2f} ({c[1]:7.2f})"
    print(line)


def _without_words(size: int) -> WordsSegment:
    empty: tuple[list[str], ...] = ([], [], ["a"], [])
    return WordsSegment.build([WordsEntry(i + 1, i // 10, empty) for i in range(size)])


def in_cells(size: int) -> None:
    rng = np.random.default_rng(12)
    vectors = clustered(size, rng)
    asked = vectors[rng.integers(0, size, 200)] + 0.02 * rng.normal(size=(200, DIMENSIONS)).astype(
        np.float32
    )
    ids = np.arange(1, size + 1, dtype=np.int64)
    words = _without_words(size)
    exact = Snapshot([words], [VectorSegment(ids, vectors)])
    started = time.perf_counter()
    cut = merge_vectors(exact.vectors, [np.ones(size, dtype=bool)], least=1)
    built = time.perf_counter() - started
    assert cut.cells is not None
    celled = Snapshot([words], [cut])

    def search(snapshot: Snapshot) -> Callable[[int], list[int]]:
        return lambda i: [
            c.passage_id
            for c in snapshot.search(
                Query("", asked[i % 200], Mode.VECTOR, 10, per_document=10, fold=False)
            )
        ]

    recall = np.mean([len(set(search(exact)(i)) & set(search(celled)(i))) / 10 for i in range(200)])
    a, b = timed(search(exact), 60), timed(search(celled), 200)
    print(
        f"{size:>9,} exact {a[0]:7.2f} ({a[1]:7.2f})  cells {b[0]:6.2f} ({b[1]:6.2f})  times faster"
        f" {a[0] / b[0]:.1f}  recall@10 {recall:.3f} (measured at build {cut.cells.recall:.3f} with"
        f" {cut.cells.probes} of {len(cut.cells.centres)} cells), built in {built:.0f} s"
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sizes", type=int, nargs="*", default=[1_000, 10_000, 100_000])
    parser.add_argument("--cells", type=int, nargs="*", default=[100_000])
    parser.add_argument("--skip-words", action="store_true")
    parser.add_argument("--words", type=int, nargs="*", help="sizes for words alone")
    arguments = parser.parse_args()
    print(
        f"machine: {platform.machine()}, {os.cpu_count()} cores, numpy {np.__version__};"
        " milliseconds, median (p95)"
    )
    for size in arguments.words or []:
        keyword_only(size)
    if arguments.words:
        return
    if not arguments.skip_words:
        for size in arguments.sizes:
            keyword_only(size)
    for size in arguments.sizes:
        semantic(size, words=not arguments.skip_words)
    for size in arguments.cells:
        in_cells(size)


if __name__ == "__main__":
    main()
