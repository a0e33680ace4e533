"""Speed of the evidence model beside bare inference of the same sequences.

.venv/bin/python bench/evidence.py
"""

from __future__ import annotations

import time

import numpy as np

from collection import EVIDENCE, ROOT, Collection, load_questions
from fontanel.core.answering.composing.windows import windows
from fontanel.core.evidence import EvidenceModel, WindowText

#: Questions, and windows of each: what an answer has scored.
_QUESTIONS, _WINDOWS = 12, 40


def main() -> None:
    """Score windows of the demo's documents for its questions, in turn with bare inference."""
    collection = Collection(ROOT / "demo" / "documents")
    questions = [q["question"] for q in load_questions(ROOT / "demo" / "questions.jsonl")]
    random = np.random.default_rng(7)
    texts = [
        WindowText(window.header, tuple(statement.text for statement in window.statements))
        for number in range(len(collection.passages))
        for window in windows(collection.evidence_passage(number))
    ]
    ours, bare, lengths = [], [], []
    for question in questions[:_QUESTIONS]:
        chosen = [texts[n] for n in random.choice(len(texts), _WINDOWS, replace=False)]
        model = EvidenceModel(EVIDENCE)
        encoded = model.encode(question, chosen)
        lengths += [window.inputs["input_ids"].size for window in encoded]
        list(model.logits(encoded[:2]))  # warm
        started = time.perf_counter()
        list(model.logits(encoded))
        bare.append(time.perf_counter() - started)
        started = time.perf_counter()
        model.score(question, chosen)
        ours.append(time.perf_counter() - started)
    print(
        f"{_WINDOWS} windows of {np.mean(lengths):.0f} tokens: {1000 * np.median(ours):.0f} ms"
        f" (95th percentile {1000 * np.percentile(ours, 95):.0f}), bare inference"
        f" {1000 * np.median(bare):.0f} ms; ratio {np.median(np.array(bare) / np.array(ours)):.2f}"
    )


if __name__ == "__main__":
    main()
