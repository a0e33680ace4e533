"""Find the approved answers that are nearest to each question: hard negatives for `train.py`.

Each item is taken as an approved answer under its direct question. Writes, for each item, the items
nearest to its natural and keyword questions, to `var/training/neighbours.json`.
"""

from __future__ import annotations

import json

import numpy as np

from fontanel.core.embedding.encoder import OnnxEmbedder
from prepare import EMBEDDER, HERE, WORK

#: Items that are kept of a question, nearest first.
_KEPT = 16


def main() -> None:
    lines = (HERE / "items.jsonl").read_text().splitlines()
    items = [json.loads(line) for line in lines]
    embedder = OnnxEmbedder(EMBEDDER, threads=2)
    answers = embedder.embed([f"{item['d']} {item['e'][:900]}" for item in items])
    result: list[list[list[int]]] = []
    for number, item in enumerate(items):
        cosines = embedder.embed([*item["n"], item["k"]]) @ answers.T
        cosines[:, number] = -1.0
        nearest = np.argsort(-cosines, axis=1)[:, :_KEPT]
        result.append(nearest.tolist())
    (WORK / "neighbours.json").write_text(json.dumps(result))


if __name__ == "__main__":
    main()
