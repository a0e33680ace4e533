"""Questions about things that no document has, and their twins about things that are there.

    .venv/bin/python bench/absent.py

Takes questions of the demo and of `bench/offices` that name something with a number or an
identifier, and questions about the columns of their tables' rows ("What is the greatest draught of
Berth 2?"), and asks each again with another number or name that no document contains. The first
should be declined with a sentence that names it, the second should not.
"""

from __future__ import annotations

import random
import re
from typing import Any

from collection import ROOT, Collection, CollectionKnowledge, load_questions
from fontanel.core.answering import Outcome, answer
from fontanel.core.answering.composing.statements import statements
from fontanel.core.answering.question.required import exact_names
from quality import finished_answer, interval

_COUNT = 60
_SEED = 29
#: The first cell of a row that names something: "Berth 2", "E17", "North Quay".
_ROW_NAME = re.compile(r"[A-Z][\w'’-]*(?: [A-Z0-9][\w'’-]*){0,2}")
#: A column that a question can ask for.
_COLUMN = re.compile(r"[A-Z]?[a-z]+(?: [a-z]+){0,2}")
#: Names that no document has.
_NAMES = ("Harrowmere", "Tollsby", "Quenna", "Wexcombe", "Pellinore", "Ardvane", "Otterfold")


def renamed(question: str, names: list[str], everything: str, random_: random.Random) -> str | None:
    """Return a question with one of its names changed to one that no document contains."""
    name = random_.choice(names)
    for _ in range(20):
        if digits := re.search(r"\d+", name):
            other = str(random_.randint(1, 4 * int(digits.group()) + 9))
            changed = name[: digits.start()] + other + name[digits.end() :]
        elif name[:1].isupper() and "_" not in name:
            changed = random_.choice(_NAMES) + "".join(name.partition(" ")[1:])
        else:
            changed = name + random_.choice(["_limit", "_mode", "_extra", "_rate"])
        if changed.lower() not in everything:
            return question.replace(name, changed)
    return None


def row_questions(collection: Collection) -> list[tuple[str, str]]:
    """Return questions about a column of a table's row, with the row's name."""
    results = []
    for number in range(len(collection.passages)):
        for row in statements(collection.evidence_passage(number)):
            if row.kind != "row" or len(row.cells) != len(row.columns):
                continue
            name = row.cells[0].strip()
            for column, cell in list(zip(row.columns, row.cells, strict=True))[1:]:
                column = column.strip()
                if _ROW_NAME.fullmatch(name) and _COLUMN.fullmatch(column) and cell.strip("–- "):
                    results.append((f"What is the {column.lower()} of {name}?", name))
    return results


def pairs() -> list[tuple[CollectionKnowledge, str, str]]:
    """Return (knowledge, question about what is absent, its twin), always the same ones."""
    random_ = random.Random(_SEED)
    results = []
    for documents, questions in (
        (ROOT / "demo" / "documents", ROOT / "demo" / "questions.jsonl"),
        (ROOT / "bench" / "offices" / "documents", ROOT / "bench" / "offices" / "questions.jsonl"),
    ):
        collection = Collection(documents)
        knowledge = CollectionKnowledge(collection)
        everything = "\n".join(passage.text for _, passage in collection.passages).lower()
        asked: list[tuple[str, list[str]]] = []
        for item in load_questions(questions):
            names = [n for n in exact_names(item["question"]) if n.lower() in everything]
            if names and item["kind"] != "unanswerable" and not item.get("history"):
                asked.append((item["question"], names))
        random_.shuffle(asked)
        rows = row_questions(collection)
        random_.shuffle(rows)
        own: list[tuple[CollectionKnowledge, str, str]] = []
        for question, names in (*asked[: _COUNT // 4], *((q, [name]) for q, name in rows)):
            changed = renamed(question, names, everything, random_)
            if changed and len(own) < _COUNT // 2:
                own.append((knowledge, changed, question))
        results += own
    return results


def main() -> None:
    named, declined, kept = [], [], []
    for knowledge, absent, twin in pairs():
        result = _ask(absent, knowledge)
        declined.append(float(result.outcome == Outcome.DECLINED))
        named.append(float(result.outcome == Outcome.DECLINED and "mentions" in result.text))
        other = _ask(twin, knowledge)
        kept.append(float(other.outcome != Outcome.DECLINED))
        if not named[-1] or not kept[-1]:
            print(f"- {absent}\n    {result.text[:100]!r}\n  {twin}\n    {other.text[:100]!r}")
    print(f"{len(named)} pairs; absent: declined {interval(declined)} per cent,")
    print(f"with the name {interval(named)}; twins declined {interval([1 - k for k in kept])}")


def _ask(question: str, knowledge: CollectionKnowledge) -> Any:
    return finished_answer(answer(question, [], knowledge))


if __name__ == "__main__":
    main()
