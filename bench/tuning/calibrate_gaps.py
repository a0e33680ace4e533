"""How well questions are grouped that ask for the same in other words.

    .venv/bin/python bench/tuning/calibrate_gaps.py

From the tuning documents of `training/prepare.py`: each item is asked for in four wordings. What
their searches found are hits without the answer, as for questions that no document answers.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1]))

from collection import EMBEDDER, ROOT
from fontanel.core.embedding.encoder import OnnxEmbedder
from fontanel.core.gaps import Grouping, Unanswered

#: Orders in which the questions are asked, over which the figures are averaged.
_ORDERS = 5


def main() -> None:
    items = [
        json.loads(line) for line in (ROOT / "training" / "items.jsonl").read_text().splitlines()
    ]
    lines = (ROOT / "var" / "training" / "questions.jsonl").read_text().splitlines()
    asked = [
        question
        for question in map(json.loads, lines)
        if question["part"] == "tuning" and "/" not in items[question["item"]]["file"]
    ]
    vectors = OnnxEmbedder(EMBEDDER, threads=2).embed([one["question"] for one in asked])
    wanted = np.array([one["item"] for one in asked])
    figures = []
    for order in range(_ORDERS):
        chosen = np.random.default_rng(order).permutation(len(asked))
        questions = [
            Unanswered(vectors[n], tuple(str(place[0]) for place in asked[n]["negative"]))
            for n in chosen
        ]
        groups = np.array(Grouping().add(questions))
        pairs = np.triu_indices(len(chosen), 1)
        together = (groups[:, None] == groups[None, :])[pairs]
        same = (wanted[chosen][:, None] == wanted[chosen][None, :])[pairs]
        both = float((together & same).sum())
        figures.append((both / together.sum(), both / same.sum(), groups.max() + 1))
    precision, recall, count = np.mean(figures, axis=0)
    print(
        f"{len(asked)} questions of {len(set(wanted.tolist()))} items in {count:.0f} gaps:"
        f" of the pairs in a gap {100 * precision:.0f} per cent ask for the same,"
        f" of the pairs that do {100 * recall:.0f} per cent are in a gap"
    )


if __name__ == "__main__":
    main()
