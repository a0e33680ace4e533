"""Fit how likely an approved answer answers a question.

    .venv/bin/python bench/tuning/calibrate_approved.py [--write]

From the tuning part of the training items (`training/README.md`): each is approved under its direct
question; its natural questions are answered by it, its near miss is answered by none.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1]))
sys.path.insert(0, str(Path(__file__).parents[2] / "training"))

from calibrate import fit

from approved import Asked, Item, ask_all
from collection import ROOT
from fontanel.core.curation import ApprovedText
from fontanel.core.curation.matching import FEATURES
from prepare import document_names, split_of

_TARGET = ROOT / "src" / "fontanel" / "core" / "curation" / "coefficients.json"
#: The highest share of near misses that may be served an approved answer.
_MAX_FALSE = 0.03


def tuning_items() -> tuple[list[Item], list[Item]]:
    """Return the items of the tuning documents, and those of the tuning packages."""
    documents = document_names()
    results: tuple[list[Item], list[Item]] = ([], [])
    lines = (ROOT / "training" / "items.jsonl").read_text().splitlines()
    for number, item in enumerate(map(json.loads, lines)):
        if split_of(item["file"], documents) == "tuning":
            entry = ApprovedText(str(number), item["d"], (), item["e"])
            results[item["file"] not in documents].append(Item(entry, tuple(item["n"]), item["u"]))
    return results


def main() -> None:
    asked = [one for items in tuning_items() for one in ask_all(items)]
    pairs = [(one, match) for one in asked for match in one.matches if match.features]
    features = np.array(
        [[getattr(match.features, name) for name in FEATURES] for _, match in pairs]
    )
    labels = np.array([float(match.id == one.expected) for one, match in pairs])
    weights = fit(features, labels, balanced=False)
    coefficients = dict(
        zip(("intercept", *FEATURES), (round(float(w), 3) for w in weights), strict=True)
    )
    print(json.dumps(coefficients))
    if "--write" in sys.argv:
        _TARGET.write_text(json.dumps(coefficients, indent=2) + "\n")
        print("written; run it again without --write for the threshold")
        return
    report(asked)


def report(asked: list[Asked]) -> None:
    """Print what thresholds do, with the coefficients that are stored."""
    natural = [one for one in asked if one.expected]
    missed = [one for one in asked if not one.expected]
    for threshold in np.arange(0.3, 0.96, 0.05):
        right = np.mean([one.served(threshold) == one.expected for one in natural])
        wrong = np.mean([one.served(threshold) not in (one.expected, None) for one in natural])
        false = np.mean([one.served(threshold) is not None for one in missed])
        print(
            f"{threshold:.2f} right {right:.3f} another {wrong:.3f} near misses {false:.3f}"
            f"{' *' if false <= _MAX_FALSE else ''}"
        )


if __name__ == "__main__":
    main()
