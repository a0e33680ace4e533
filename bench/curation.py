"""The speed of approved answers, of grouping questions, and of following changed text.

    .venv/bin/python bench/curation.py

10,000 approved answers are made of the training items, in several copies with other numbers; 20,000
questions of the items' questions with noise added to their vectors.
"""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterable, Sequence
from functools import partial

import numpy as np
import numpy.typing as npt

from collection import EMBEDDER, EVIDENCE, ROOT
from fontanel.core.curation import ApprovedSet, ApprovedText
from fontanel.core.curation.following import follow
from fontanel.core.embedding.encoder import OnnxEmbedder
from fontanel.core.evidence import EvidenceModel, WindowScore, WindowText
from fontanel.core.gaps import Grouping, Unanswered
from fontanel.core.text.analysis import analyser_of

_APPROVED, _QUESTIONS, _ASKED = 10_000, 20_000, 200

Vectors = npt.NDArray[np.float32]


def items() -> list[dict[str, str]]:
    """Return the training items."""
    return [
        json.loads(line) for line in (ROOT / "training" / "items.jsonl").read_text().splitlines()
    ]


def noisy(vectors: Vectors, count: int, noise: float) -> Vectors:
    """Return a number of unit vectors, each near one of those given."""
    random_ = np.random.default_rng(1)
    chosen = vectors[random_.integers(0, len(vectors), count)]
    moved = chosen + noise * random_.normal(size=chosen.shape).astype(np.float32) / 20
    result: Vectors = moved / np.linalg.norm(moved, axis=1, keepdims=True)
    return result


def timed(work: Iterable[Callable[[], object]]) -> list[float]:
    """Return the milliseconds of each piece of work."""
    results = []
    for piece in work:
        began = time.perf_counter()
        piece()
        results.append((time.perf_counter() - began) * 1000)
    return results


def say(what: str, milliseconds: list[float]) -> None:
    """Print the median and the 95th percentile of times."""
    middle, high = np.percentile(milliseconds, [50, 95])
    print(f"{what}: median {middle:.1f} ms, p95 {high:.1f} ms")


def _unscored(question: str, windows: Sequence[WindowText]) -> list[WindowScore] | None:
    """Score nothing, as without an evidence model."""
    return None


def main() -> None:
    embedder, model = OnnxEmbedder(EMBEDDER, threads=2), EvidenceModel(EVIDENCE)
    own = items()[:2500]
    entries = [
        ApprovedText(f"{copy}-{number}", f"{item['d']} ({copy})", (), item["e"])
        for copy in range(4)
        for number, item in enumerate(own)
    ]
    base = embedder.embed([f"{item['d']} {item['e']}" for item in own])
    approved = ApprovedSet(entries, np.concatenate([base] * 4))
    assert len(entries) == _APPROVED
    asked = [item["n"][0] for item in own[:_ASKED]]
    vectors = embedder.embed(asked)
    terms = analyser_of("en").terms
    pairs = list(zip(asked, vectors, strict=True))
    say(
        f"match with {_APPROVED:,} approved answers, with the evidence model",
        timed(partial(approved.matches, q, v, terms, model.score) for q, v in pairs),
    )
    say(
        f"match with {_APPROVED:,} approved answers, without it",
        timed(partial(approved.matches, q, v, terms, _unscored) for q, v in pairs),
    )
    many = noisy(embedder.embed([item["d"] for item in own]), _QUESTIONS + _ASKED, 0.5)
    random_ = np.random.default_rng(2)
    questions = [
        Unanswered(vector, tuple(f"p{n}" for n in random_.integers(0, 5000, 10))) for vector in many
    ]
    grouping = Grouping()
    began = time.perf_counter()
    groups = grouping.add(questions[:_QUESTIONS])
    print(
        f"grouping {_QUESTIONS:,} questions into {max(groups) + 1:,}:"
        f" {time.perf_counter() - began:.1f} s"
    )
    say("one more question", timed(partial(grouping.add, [q]) for q in questions[_QUESTIONS:]))
    text = "\n\n".join(item["e"] for item in own)
    new = text.replace(" the ", " that ")
    places = [(text.index(item["e"]), item["e"]) for item in own[:_ASKED]]
    say(
        f"following a quote to the next revision ({len(text):,} characters)",
        timed(partial(follow, text, at, at + len(q), new) for at, q in places),
    )


if __name__ == "__main__":
    main()
