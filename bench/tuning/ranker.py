"""Whether a learned ranker over cheap features ranks better than the weighted sum.

    .venv/bin/python bench/tuning/ranker.py [--collection FOLDER] [--tuning FILE] [--reporting FILE]

A linear ranker is fitted by the softmax over each question's candidates (ListNet, Cao et al.,
"Learning to rank: from pairwise approach to listwise approach", 2007) on the tuning half, and
compared on questions it has not seen: mean reciprocal rank within the first twenty, with the 95%
bootstrap interval of the difference.
"""

from __future__ import annotations

import argparse
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

sys.path.insert(0, str(Path(__file__).parents[1]))

from collection import ROOT, Collection, load_questions
from fontanel.core.index import Candidate, Mode, Query

_DEPTH = 100
NAMES = (
    "words",
    "meaning",
    "window",
    "own cosine",
    "coverage",
    "terms met",
    "title",
    "heading",
    "first in words",
    "length",
)
Floats = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Asked:
    """A question's candidates in rank order: their features, and which are relevant."""

    features: Floats
    held: npt.NDArray[np.bool_]


def features(candidates: list[Candidate], lengths: list[int], terms: int) -> Floats:
    best = max((c.lexical for c in candidates), default=1.0) or 1.0
    keyword_only = {
        c.passage_id: rank for rank, c in enumerate(sorted(candidates, key=lambda c: -c.lexical))
    }
    rows = []
    for c, length in zip(candidates, lengths, strict=True):
        window, near = c.window or 0.0, c.similarity or 0.0
        fields = np.sum(list(c.fields.values()), axis=0) if c.fields else np.zeros(4)
        whole = max(c.lexical, 1e-9)
        rows.append(
            [
                c.lexical / best,
                near,
                window,
                2 * near - window,
                c.coverage,
                len(c.terms) / max(terms, 1),
                fields[0] / whole,
                fields[1] / whole,
                1.0 / (1 + keyword_only[c.passage_id]),
                np.log1p(length),
            ]
        )
    return np.array(rows)


def asked(collection: Collection, item: dict[str, Any]) -> Asked | None:
    gold = collection.gold(item)
    vector = collection.embedder.embed([item["question"]])[0]
    query = Query(
        item["question"], vector, Mode.HYBRID, _DEPTH, per_document=_DEPTH, fold=False, explain=True
    )
    result = collection.snapshot.search(query)
    if not gold or not result:
        return None
    passages = [collection.passages[c.passage_id] for c in result]
    stored = [
        any(one.in_passage(collection.documents[key].file, passage.text) for one in gold)
        for key, passage in passages
    ]
    terms = len(collection.snapshot.query_terms(item["question"]))
    return Asked(
        features(result, [len(passage.text) for _, passage in passages], terms), np.array(stored)
    )


def fit(questions: list[Asked], penalty: float) -> tuple[Floats, Floats, Floats]:
    """Weights, and the means and spreads that features are standardised by."""
    every = np.concatenate([q.features for q in questions])
    mean, spread = every.mean(axis=0), every.std(axis=0) + 1e-9
    useful = [((q.features - mean) / spread, q.held) for q in questions if q.held.any()]

    weights = np.zeros(len(NAMES))
    for _ in range(1500):
        gradient = 2 * penalty * weights
        for x, stored in useful:
            scores = x @ weights
            share = np.exp(scores - scores.max())
            share /= share.sum()
            gradient = gradient - (share * stored / (share[stored].sum() + 1e-12) - share) @ x
        weights = weights - 0.3 / len(useful) * gradient
    return weights, mean, spread


def reciprocal(held: npt.NDArray[np.bool_]) -> float:
    first = np.flatnonzero(held[:20])
    return 1.0 / (1 + int(first[0])) if len(first) else 0.0


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--collection", type=Path, default=ROOT / "var/collections/debian-manuals")
    parser.add_argument(
        "--tuning", type=Path, default=ROOT / "bench/questions/debian-manuals-tuning.jsonl"
    )
    parser.add_argument(
        "--reporting", type=Path, default=ROOT / "bench/questions/debian-manuals-reporting.jsonl"
    )
    arguments = parser.parse_args()
    collection = Collection(arguments.collection)
    tuning, reporting = (
        [result for item in load_questions(path) if (result := asked(collection, item))]
        for path in (arguments.tuning, arguments.reporting)
    )
    for penalty in (0.1, 1.0, 5.0):
        weights, mean, spread = fit(tuning, penalty)
        print(
            f"penalty {penalty}: "
            + ", ".join(f"{n} {w:+.2f}" for n, w in zip(NAMES, weights, strict=True))
        )
        for name, questions in (("tuning", tuning), ("reporting", reporting)):
            blend = np.array([reciprocal(q.held) for q in questions])
            ranked = np.array(
                [
                    reciprocal(
                        q.held[np.argsort(-((q.features - mean) / spread) @ weights, kind="stable")]
                    )
                    for q in questions
                ]
            )
            chosen = np.random.default_rng(7).integers(0, len(blend), (4000, len(blend)))
            low, high = np.percentile((ranked - blend)[chosen].mean(axis=1), [2.5, 97.5])
            print(
                f"   {name}: {len(questions)} questions, MRR blend {100 * blend.mean():.1f}, ranker"
                f" {100 * ranked.mean():.1f}, difference {100 * (ranked - blend).mean():+.1f}"
                f" ({100 * low:+.1f} to {100 * high:+.1f})"
            )


if __name__ == "__main__":
    main()
