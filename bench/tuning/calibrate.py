"""Fit the coefficients of the evidence check and of the relevance.

    .venv/bin/python bench/tuning/calibrate.py FOLDER=QUESTIONS.jsonl ... [--write]

Each answerable question is asked of the whole collection: an example of sufficient evidence, or
without the evidence model only if the answer is right. Unanswerable questions are examples of
insufficient evidence. Without the model, answerable questions are also asked of the collection
without the documents that answer them: examples of insufficient evidence with a low weight, as the
rest may still answer. With it, the intercept is then set so that the mean is how often answers are
right.
"""

from __future__ import annotations

import argparse
import json
import random
import sys
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

sys.path.insert(0, str(Path(__file__).parents[1]))

from collection import ROOT, Collection, CollectionKnowledge, load_questions
from fontanel.core.answering import AnswerSettings
from fontanel.core.answering.composing.composer import draft
from fontanel.core.answering.composing.judging import CANDIDATES, judge
from fontanel.core.answering.evidence import FEATURES, sufficiency
from quality import is_right

Floats = npt.NDArray[np.float64]
_REMOVED_WEIGHT = 0.15
#: The columns of the examples: the features, and the likelihood without the evidence model.
_COLUMNS = (*FEATURES, "unjudged")


def fit(
    features: Floats,
    labels: Floats,
    given: Floats | None = None,
    penalty: float = 0.02,
    steps: int = 20_000,
    *,
    balanced: bool = True,
) -> Floats:
    """Logistic regression with a ridge and non-negative weights.

    More support never counts against an answer.

    Args:
        given: A weight for each example.
        balanced: Both labels weigh alike; else the result is how often answers are right.
    """
    mean, scale = features.mean(axis=0), features.std(axis=0) + 1e-9
    x = np.column_stack([np.ones(len(features)), (features - mean) / scale])
    weight = np.ones(len(labels)) if given is None else given / given.mean()
    if balanced:
        half = 0.5 * len(labels)
        weight = weight * np.where(
            labels > 0, half / weight[labels > 0].sum(), half / weight[labels == 0].sum()
        )
    w = np.zeros(x.shape[1])
    for _ in range(steps):
        p = 1 / (1 + np.exp(-x @ w))
        gradient = x.T @ ((p - labels) * weight) / len(labels) + penalty * np.r_[0, w[1:]]
        w -= 0.1 * gradient
        w[1:] = np.maximum(w[1:], 0)
    out = w.copy()
    out[1:] = w[1:] / scale
    out[0] = w[0] - (w[1:] * mean / scale).sum()
    return out


def _intercept(scores: Floats, labels: Floats, weights: Floats) -> float:
    """Return the intercept with which the mean likelihood is that of the labels, by bisection."""
    low, high = -20.0, 20.0
    for _ in range(60):
        middle = (low + high) / 2
        if (weights * (1 / (1 + np.exp(-scores - middle)) - labels)).sum() < 0:
            low = middle
        else:
            high = middle
    return low


def auc(scores: Floats, labels: Floats) -> float:
    positive, negative = scores[labels > 0], scores[labels == 0]
    return float(
        (positive[:, None] > negative[None, :]).mean()
        + 0.5 * (positive[:, None] == negative[None, :]).mean()
    )


def examples(
    collection: Collection,
    questions: list[dict[str, Any]],
    only: frozenset[str] | None = None,
    *,
    judged: bool = False,
) -> tuple[list[list[float]], list[float], list[Any], list[float], list[float]]:
    """Return features and the likelihood without the model, labels, matches, weights, rights.

    Rights are 1 where the answer is right.
    """
    whole = CollectionKnowledge(collection, only=only)
    rows: list[list[float]] = []
    labels: list[float] = []
    matches: list[Any] = []
    weights: list[float] = []
    rights: list[float] = []
    for item in questions:
        files = frozenset(g["file"] for g in item["gold"])
        for knowledge, enough in (
            (whole, bool(files)),
            (CollectionKnowledge(collection, files, only), False),
        ):
            if knowledge is not whole and (judged or not files):
                continue
            used = AnswerSettings().passages
            passages = knowledge.retrieve(item["question"], CANDIDATES if judged else used)
            judgement = judge(item["question"], passages, knowledge) if judged else None
            if judgement is not None:
                passages = judgement.ranked(passages)[:used]
            elif judged:
                continue  # another language: the model has no say
            composed = draft(item["question"], passages, knowledge, judgement=judgement)
            right = is_right(item, " ".join(s.text for s in composed.chosen))
            in_gold = any(s.passage.document_id in files for s in composed.chosen)
            if enough:
                for passage in passages:
                    best = (
                        sum(knowledge.idf(t) for t in knowledge.terms(item["question"])) * 2.2 * 0.6
                    )
                    coverage = min(1.0, sum(passage.terms.values()) / best) if best else 0.0
                    matches.append(
                        (coverage, passage.similarity or 0.0, passage.document_id in files)
                    )
                if not right and not in_gold and not judged:
                    continue
            elif right and files:
                continue  # another document answers it too
            unjudged = sufficiency(composed.support, keyword_only=composed.keyword_only)
            rows.append([*composed.support.features(), unjudged])
            labels.append(float(enough and (judged or right or in_gold)))
            rights.append(float(enough and right))
            weights.append(_REMOVED_WEIGHT if files and not enough else 1.0)
    return rows, labels, matches, weights, rights


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("sets", nargs="+", metavar="FOLDER=QUESTIONS")
    parser.add_argument("--write", action="store_true")
    parser.add_argument("--judged", action="store_true", help="with the evidence model")
    parser.add_argument("--limit", type=int, default=0, help="questions of each set, at random")
    arguments = parser.parse_args()
    rows, labels, matches, weights, rights = [], [], [], [], []
    for pair in arguments.sets:
        folder, questions = pair.split("=")
        collection, items = Collection(Path(folder)), load_questions(Path(questions))
        if 0 < arguments.limit < len(items):
            items = random.Random(11).sample(items, arguments.limit)
        # Once in full, and once as small as a team's knowledge base: only documents that questions
        # are about.
        small = frozenset(g["file"] for item in items for g in item["gold"])
        whole = len({document.file for document in collection.documents})
        this: list[float] = []
        apart = len(small) < whole / 2 and not arguments.judged
        for only in (None, small) if apart else (None,):
            new_rows, new_labels, new_matches, new_weights, new_rights = examples(
                collection, items, only, judged=arguments.judged
            )
            rows += new_rows
            labels += new_labels
            matches += new_matches
            rights += new_rights
            this += new_weights
        # Each collection counts alike, whatever the number of its questions.
        weights += [weight / sum(this) for weight in this]
    x, y, values = np.array(rows), np.array(labels), np.array(weights)
    values /= values.mean()
    print(f"{len(y)} examples, {int(y.sum())} with enough evidence")
    for i, name in enumerate(_COLUMNS):
        print(
            f"  {name:20} AUC {auc(x[:, i], y):.3f}   mean {x[y > 0, i].mean():.2f} /"
            f" {x[y == 0, i].mean():.2f}"
        )
    out = {}
    if arguments.judged:
        # Near misses share the words of what answers: fitted with the model, single features of
        # words and similarity mislead, so that the check without the model counts as one.
        kinds = {"judged": ["window", "unjudged"]}
    else:
        kinds = {
            "both": [name for name in FEATURES if name != "window"],
            "words": ["coverage", "statement_coverage", "shaped"],
        }
    for name, chosen in kinds.items():
        columns = [_COLUMNS.index(one) for one in chosen]
        w = fit(x[:, columns], y, values)
        if arguments.judged:
            w[0] = _intercept(x[:, columns] @ w[1:], np.array(rights), values)
        scores = x[:, columns] @ w[1:] + w[0]
        print(
            f"{name}: AUC {auc(scores, y):.3f}; at 0.5 keeps {(scores[y > 0] > 0).mean():.2f},"
            f" declines {(scores[y == 0] <= 0).mean():.2f}"
        )
        likely = 1 / (1 + np.exp(-scores[y > 0]))
        floor = AnswerSettings().evidence_needed
        kept, declined = (
            (likely >= floor).mean(),
            (1 / (1 + np.exp(-scores[y == 0])) < floor).mean(),
        )
        print(f"  the floor of {floor} in force keeps {kept:.2f}, declines {declined:.2f}")
        print(
            f"  a floor of {np.quantile(likely, 0.1):.2f} would decline one answerable question"
            " in ten"
        )
        out[name] = {"intercept": round(float(w[0]), 3)} | {
            one: round(float(v), 3) for one, v in zip(chosen, w[1:], strict=True)
        }
    print(json.dumps(out, indent=2))
    table = np.array(matches, dtype=float)
    for name, columns in (("hybrid", [0, 1]), ("lexical", [0]), ("vector", [1])):
        w = fit(table[:, columns], table[:, 2])
        print(
            f"match {name}: {np.round(w, 2).tolist()}"
            f" AUC {auc(table[:, columns] @ w[1:], table[:, 2]):.3f}"
        )
    if arguments.write:
        target = ROOT / "src/fontanel/core/answering/coefficients.json"
        target.write_text(json.dumps(json.loads(target.read_text()) | out, indent=2) + "\n")


if __name__ == "__main__":
    main()
