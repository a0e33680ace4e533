"""Merging segment files, in this process or in another one.

`python -m fontanel.engine.workers.merger` reads a plan from stdin and writes the merged file.
"""

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
from fontanel.engine.workers.lifetime import die_with_parent
from fontanel.engine.workers.processes import start_process
from fontanel.errors import FontanelError


@dataclass(frozen=True, slots=True)
class MergePlan:
    """The files to merge, the passages to drop, and the averages that impacts assume."""

    kind: str
    target: str
    sources: list[str]
    dead: list[int]
    averages: list[float]


class MergeFailed(FontanelError):
    """The merging process ended without writing a file."""


def merge_here(plan: MergePlan) -> int:
    """Merge and write, unless the result is empty.

    Return its number of passages or vectors.
    """
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
    """Merge and write in a process of lower priority, which ends with this one.

    Returns:
        The number of passages or vectors.

    Raises:
        MergeFailed: The process ended without writing the file.
    """
    command = [sys.executable, "-m", "fontanel.engine.workers.merger"]
    with start_process(command, stderr=subprocess.PIPE) as process:
        output, errors = process.communicate(json.dumps(asdict(plan)).encode())
    if process.returncode:
        reason = errors.decode(errors="replace")[-500:]
        raise MergeFailed(f"merging {len(plan.sources)} segments failed: {reason}")
    return int(output)


def main() -> None:
    """Run the merge whose plan is on stdin."""
    die_with_parent()
    os.nice(10)
    print(merge_here(MergePlan(**json.load(sys.stdin))))


if __name__ == "__main__":
    main()
