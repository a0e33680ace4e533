"""Merging segment files, here or in a process of its own: `python -m fontanel.engine.workers.merger` reads a plan and writes a file."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np

from fontanel.core.index import (
    VectorSegment,
    WordsSegment,
    merge_vectors,
    merge_words,
    write_vectors,
    write_words,
)
from fontanel.errors import FontanelError


@dataclass(frozen=True, slots=True)
class MergePlan:
    """The files to merge into one, the passages to leave out, and the averages that impacts are made for."""

    kind: str
    target: str
    sources: list[str]
    dead: list[int]
    averages: list[float]


class MergeFailed(FontanelError):
    """The process that merged ended without a file."""


def merge_here(plan: MergePlan) -> int:
    """Merge and write; returns the number of passages or vectors. Without any, nothing is written."""
    dead = np.array(sorted(plan.dead), dtype=np.int64)
    paths = [Path(source) for source in plan.sources]
    if plan.kind == "words":
        words = [WordsSegment.open(path) for path in paths]
        averages = np.array(plan.averages, dtype=np.float32)
        merged = merge_words(words, [~np.isin(s.passage_ids, dead) for s in words], averages)
        if len(merged):
            write_words(Path(plan.target), merged)
        return len(merged)
    vectors = [VectorSegment.open(path) for path in paths]
    alive = [~np.isin(s.passage_ids, dead) for s in vectors]
    joined = merge_vectors(vectors, alive, pack=plan.kind == "windows")
    if len(joined):
        write_vectors(Path(plan.target), joined)
    return len(joined)


def merge_elsewhere(plan: MergePlan) -> int:
    """As `merge_here`, in a process of lower priority. Raises MergeFailed."""
    done = subprocess.run(
        [sys.executable, "-m", "fontanel.engine.workers.merger"],
        input=json.dumps(asdict(plan)),
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode:
        raise MergeFailed(f"merging {len(plan.sources)} segments failed: {done.stderr[-500:]}")
    return int(done.stdout)


def main() -> None:
    os.nice(10)
    print(merge_here(MergePlan(**json.load(sys.stdin))))


if __name__ == "__main__":
    main()
