"""Figures of the built evidence model on questions that it was not trained on.

    .venv/bin/python training/evaluate.py [--part reporting]

auc: how often an answerable question scores higher for the window with its evidence than a near
miss does. top: how often that window is above ten negatives. quoted: how often the statement of
that window with the highest evidence is evidence. With 95 % bootstrap intervals.
"""

from __future__ import annotations

import argparse
import json
import random
from collections.abc import Callable
from pathlib import Path

import numpy as np
import numpy.typing as npt

from fontanel.core.evidence import EvidenceModel, WindowText
from prepare import ROOT, WORK

Values = npt.NDArray[np.float64]


def interval(values: list[Values], statistic: Callable[..., float]) -> str:
    """Return a statistic of one or two samples with its interval."""
    random_ = np.random.default_rng(7)
    drawn = [
        statistic(*(sample[random_.integers(0, len(sample), len(sample))] for sample in values))
        for _ in range(1000)
    ]
    low, high = np.percentile(drawn, [2.5, 97.5])
    return f"{statistic(*values):.3f} ({low:.3f}-{high:.3f})"


def auc(right: Values, wrong: Values) -> float:
    return float((right[:, None] > wrong[None, :]).mean())


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--part", choices=("tuning", "reporting"), default="reporting")
    parser.add_argument("--model", type=Path, default=ROOT / "var" / "evidence")
    parser.add_argument("--questions", type=int, default=600)
    arguments = parser.parse_args()
    model = EvidenceModel(arguments.model)
    rows = json.loads((WORK / "windows.json").read_text())
    windows = [[WindowText(w["header"], tuple(w["statements"])) for w in group] for group in rows]
    lines = (WORK / "questions.jsonl").read_text().splitlines()
    chosen = [q for q in map(json.loads, lines) if q["part"] == arguments.part]
    for kind in ("direct", "natural", "keyword"):
        own = [q for q in chosen if q["kind"] == kind]
        own = random.Random(3).sample(own, min(arguments.questions, len(own)))
        right, wrong, top, quoted = [], [], [], []
        for question in own:
            passage, window, found = question["positive"][0]
            places = [(passage, window), *question["negative"]]
            scores = model.score(question["question"], [windows[p][w] for p, w in places])
            right.append(scores[0].relevance)
            top.append(float(scores[0].relevance >= max(s.relevance for s in scores)))
            quoted.append(float(int(np.argmax(scores[0].statements)) in found))
            if question["unanswered"]:
                (near,) = model.score(question["unanswered"], [windows[passage][window]])
                wrong.append(near.relevance)
        figures = {"top": interval([np.array(top)], np.mean)}
        figures["quoted"] = interval([np.array(quoted)], np.mean)
        if wrong:
            figures["auc"] = interval([np.array(right), np.array(wrong)], auc)
        print(arguments.part, kind, len(own), figures)


if __name__ == "__main__":
    main()
