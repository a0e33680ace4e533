"""Measure keyword search with misspelled questions.

    .venv/bin/python bench/spelling.py [--draws 5]

The direct questions of `bench/offices`, with none, one or two words of five letters and more
misspelled: two letters swapped, one dropped, doubled or replaced. A question counts when the best
passage is of the right document.
"""

from __future__ import annotations

import argparse
import json
import random
import re
from pathlib import Path

from collection import Collection
from fontanel.core.index import Mode, Query

OFFICES = Path(__file__).parent / "offices"
_WORD = re.compile(r"[A-Za-z]{5,}")
_LETTERS = "abcdefghijklmnoprstuvwy"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--draws", type=int, default=5, help="misspellings of each question")
    draws: int = parser.parse_args().draws
    collection = Collection(OFFICES / "documents")
    lines = (OFFICES / "questions.jsonl").read_text().splitlines()
    questions = [item for item in map(json.loads, lines) if item["kind"] == "direct"]
    long = [item for item in questions if len(_WORD.findall(item["question"])) >= 2]
    for slips in range(3):
        draw = random.Random(slips)
        right = [
            _best_file(collection, _misspelled(item["question"], slips, draw))
            == item["gold"][0]["file"]
            for item in long * (draws if slips else 1)
        ]
        share = 100 * sum(right) / len(right)
        print(f"{slips} misspelled words: {share:.1f} % of {len(right)} questions right")


def _best_file(collection: Collection, question: str) -> str | None:
    hits = collection.snapshot.search(Query(question, mode=Mode.LEXICAL, limit=1))
    if not hits:
        return None
    key, _ = collection.passages[hits[0].passage_id]
    return collection.documents[key].file


def _misspelled(question: str, slips: int, draw: random.Random) -> str:
    """Misspell some words of a question."""
    words = draw.sample(list(_WORD.finditer(question)), slips)
    for match in sorted(words, key=lambda match: -match.start()):
        question = question[: match.start()] + _slip(match.group(), draw) + question[match.end() :]
    return question


def _slip(word: str, draw: random.Random) -> str:
    """Return a word with one slip; its first letter stays."""
    at = draw.randrange(1, len(word) - 1)
    before, letter, after = word[:at], word[at], word[at + 1 :]
    return draw.choice(
        [
            before + after[0] + letter + after[1:],
            before + after,
            before + letter + letter + after,
            before + draw.choice(_LETTERS) + after,
        ]
    )


if __name__ == "__main__":
    main()
