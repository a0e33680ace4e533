"""Answers of simulated models.

What is sent, and how well false statements are found.

The honest simulator repeats sentences of its sources; the lying one falsifies them (numbers,
denials, opposites, wrong sources) and adds facts; the subtle one denies clauses, gives figures of
other things and turns the order of events around. Both know which of their statements are true:
false ones must be marked, true ones must not.
"""

from __future__ import annotations

import argparse
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from rich.console import Console
from rich.table import Table

from collection import ROOT, Collection, CollectionKnowledge, bare, load_questions
from fontanel.core.answering import (
    Answer,
    AnswerSettings,
    CheckedStatement,
    Exchange,
    Outcome,
    Trace,
    Verdict,
    answer,
)
from fontanel.core.answering.question.followup import search_form
from quality import finished_answer, interval, is_right
from simulator import SimulatedModel


def ask(
    knowledge: CollectionKnowledge, item: dict[str, Any], writer: SimulatedModel
) -> tuple[Answer, Trace]:
    history: list[Exchange] = []
    for earlier in item.get("history", []):
        finished = finished_answer(answer(earlier, history, knowledge))
        history.append(Exchange(earlier, finished.standalone))
    trace = Trace()
    # What the evidence check declines is not written: the check is measured elsewhere.
    settings = AnswerSettings(evidence_needed=0.0)
    events = answer(item["question"], history, knowledge, settings, writer=writer, trace=trace)
    return finished_answer(events), trace


def measure(collection: Collection, items: Sequence[dict[str, Any]]) -> list[Table]:
    knowledge = CollectionKnowledge(collection)
    return [
        _with_honest(collection, knowledge, items),
        *(_with_lies(name, knowledge, items) for name in ("lying", "subtle")),
    ]


def _with_honest(
    collection: Collection, knowledge: CollectionKnowledge, items: Sequence[dict[str, Any]]
) -> Table:
    sent: list[float] = []
    stored: list[float] = []
    right: list[float] = []
    marked: list[float] = []
    for item in items:
        written, trace = ask(knowledge, item, SimulatedModel("honest"))
        packing = next((step for step in trace.steps if step.name == "packing"), None)
        if packing is None:
            continue
        sent.append(packing.details["tokens"])
        gold = collection.gold(item)
        hits = knowledge.retrieve(
            search_form(written.standalone, knowledge.terms), 10, per_document=10
        )
        if any(one.in_passage(hit.document_id, hit.text) for hit in hits for one in gold):
            prompt = written.prompt[-1].content if written.prompt else ""
            stored.append(float(any(_within(g["evidence"], prompt) for g in item["gold"])))
        if item.get("answer_keys"):
            answered = written.outcome == Outcome.ANSWERED
            right.append(float(answered and is_right(item, written.text)))
        for statement in written.statements:
            marked.append(float(statement.verdict in (Verdict.WEAK, Verdict.UNCITED)))
            if marked[-1]:
                print("marked, though true:", f"{_said(written, statement)} ({statement.reason})")
    return _table(
        f"With the honest simulator, {len(sent)} questions",
        {
            "tokens sent, median": f"{np.median(sent):.0f}",
            "maximum": f"{max(sent):.0f}",
            "evidence in it, of top 10": interval(stored),
            "right": interval(right),
            "statements marked": interval(marked),
        },
    )


def _with_lies(
    behaviour: str, knowledge: CollectionKnowledge, items: Sequence[dict[str, Any]]
) -> Table:
    found: dict[bool, list[float]] = {True: [], False: []}
    for item in items:
        writer = SimulatedModel(behaviour)
        written, _ = ask(knowledge, item, writer)
        truth = {texts.text: texts.true for texts in writer.said}
        for statement in written.statements:
            text = _said(written, statement)
            if text not in truth:
                continue
            marked = statement.verdict in (Verdict.WEAK, Verdict.UNCITED)
            found[truth[text]].append(float(marked))
            if not marked and not truth[text]:
                print("not found:", text)
    return _table(
        f"With the {behaviour} simulator: per cent of statements that are marked",
        {
            "false statements": str(len(found[False])),
            "marked": interval(found[False]),
            "true statements": str(len(found[True])),
            "marked ": interval(found[True]),
        },
    )


def _table(title: str, row: dict[str, str]) -> Table:
    table = Table(title=title)
    for name in row:
        table.add_column(name, justify="right")
    table.add_row(*row.values())
    return table


def _said(written: Answer, statement: CheckedStatement) -> str:
    return statement.removed or written.text[statement.start : statement.end]


def _within(evidence: str, prompt: str) -> bool:
    """Return whether a source contains the evidence, verbatim or as the cells of rows."""
    if bare(evidence) in bare(prompt):
        return True
    words = set(re.findall(r"\w+", evidence.lower()))
    return any(
        words <= set(re.findall(r"\w+", source.lower())) for source in prompt.split("</source>")
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--collection", type=Path, default=ROOT / "demo" / "documents")
    parser.add_argument("--questions", type=Path, default=ROOT / "demo" / "questions.jsonl")
    arguments = parser.parse_args()
    console = Console(width=120)
    for table in measure(Collection(arguments.collection), load_questions(arguments.questions)):
        console.print(table)


if __name__ == "__main__":
    main()
