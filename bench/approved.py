"""How well questions find their approved answer, and how rarely near misses do.

    .venv/bin/python bench/approved.py

Approves the answer of each item of `bench/offices` under its direct question, and asks the two
natural questions and the near miss of each: the first should be served the item's answer, the last
none. The documents of `bench/offices` were not used to train or to calibrate.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from collection import EMBEDDER, EVIDENCE, ROOT, load_questions
from fontanel.core.curation import ApprovedSet, ApprovedText, Match
from fontanel.core.embedding.encoder import OnnxEmbedder
from fontanel.core.evidence import EvidenceModel
from fontanel.core.text.analysis import analyser_of
from fontanel.facts import APPROVED_NEEDED
from quality import interval


@dataclass(frozen=True, slots=True)
class Item:
    """An approved answer, questions that it answers, and one that it does not."""

    entry: ApprovedText
    natural: tuple[str, ...]
    missed: str | None


@dataclass(frozen=True, slots=True)
class Asked:
    """A question, the approved answer that it should get, and the matches."""

    question: str
    expected: str | None
    matches: list[Match]

    def served(self, threshold: float) -> str | None:
        """Return the approved answer that is served."""
        best = self.matches[0] if self.matches else None
        return best.id if best and best.likelihood >= threshold else None


def office_items() -> list[Item]:
    """Return the items of `bench/offices`."""
    groups: dict[str, dict[str, list[dict[str, object]]]] = {}
    for question in load_questions(ROOT / "bench" / "offices" / "questions.jsonl"):
        item = groups.setdefault(question["id"].rstrip("0123456789")[:-1], {})
        item.setdefault(question["kind"], []).append(question)
    results = []
    for name, kinds in groups.items():
        if not kinds.get("direct"):
            continue
        (direct,) = kinds["direct"]
        evidence = " ".join(gold["evidence"] for gold in direct["gold"])  # type: ignore[attr-defined]
        results.append(
            Item(
                ApprovedText(name, str(direct["question"]), (), evidence),
                tuple(str(one["question"]) for one in kinds.get("paraphrase", ())),
                next((str(one["question"]) for one in kinds.get("unanswerable", ())), None),
            )
        )
    return results


def ask_all(items: Sequence[Item]) -> Iterator[Asked]:
    """Ask all questions of the items against all their approved answers."""
    embedder, model = OnnxEmbedder(EMBEDDER, threads=2), EvidenceModel(EVIDENCE)
    terms = analyser_of("en").terms
    entries = [item.entry for item in items]
    approved = ApprovedSet(entries, embedder.embed(ApprovedSet.texts(entries)))
    for item in items:
        asked: list[tuple[str, str | None]] = [(text, item.entry.id) for text in item.natural]
        asked += [(item.missed, None)] if item.missed else []
        vectors = embedder.embed([question for question, _ in asked])
        for (question, expected), vector in zip(asked, vectors, strict=True):
            matches = approved.matches(question, vector, terms, model.score)
            yield Asked(question, expected, matches)


def main() -> None:
    asked = list(ask_all(office_items()))
    natural = [one for one in asked if one.expected]
    missed = [one for one in asked if not one.expected]
    for threshold in sorted({0.5, 0.6, 0.7, 0.8, 0.9, APPROVED_NEEDED}):
        right = interval([float(a.served(threshold) == a.expected) for a in natural])
        wrong = [float(a.served(threshold) not in (a.expected, None)) for a in natural]
        false = interval([float(a.served(threshold) is not None) for a in missed])
        print(
            f"{threshold:.2f}: of {len(natural)} natural questions {right} per cent are served"
            f" their answer, {interval(wrong)} another; of {len(missed)} near misses {false}"
        )


if __name__ == "__main__":
    main()
