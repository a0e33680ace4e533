"""Answers that a model writes, with the simulated ones: what is sent, what comes of it, and how well false statements are found.

The honest simulator says sentences of its sources; the lying one spoils them (numbers, denials, opposites, wrong sources) and adds facts of
its own, and knows which of its statements are true: a statement that is not must be marked, one that is must not.
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
from simulator import StandIn

from collection import ROOT, Collection, CollectionKnowledge, bare, load_questions
from fontanel.core.answering import (
    Answer,
    AnswerSettings,
    CheckedStatement,
    Exchange,
    Finished,
    Outcome,
    Trace,
    Verdict,
    answer,
)
from quality import interval


def ask(
    knowledge: CollectionKnowledge, item: dict[str, Any], writer: StandIn
) -> tuple[Answer, Trace]:
    history: list[Exchange] = []
    for earlier in item.get("history", []):
        finished = next(
            e for e in answer(earlier, history, knowledge) if isinstance(e, Finished)
        ).answer
        history.append(Exchange(earlier, finished.standalone))
    trace = Trace()
    # What the evidence check declines is not written: the check is measured elsewhere.
    settings = AnswerSettings(evidence_needed=0.0)
    events = answer(item["question"], history, knowledge, settings, writer=writer, trace=trace)
    return next(e for e in events if isinstance(e, Finished)).answer, trace


def measure(collection: Collection, items: Sequence[dict[str, Any]]) -> tuple[Table, Table]:
    knowledge = CollectionKnowledge(collection)
    sent: list[float] = []
    stored: list[float] = []
    right: list[float] = []
    true_marked: list[float] = []
    wrongly: list[str] = []
    for item in items:
        written, trace = ask(knowledge, item, StandIn("honest"))
        packing = next((step for step in trace.steps if step.name == "packing"), None)
        if packing is None:
            continue
        sent.append(packing.details["tokens"])
        gold = collection.gold(item)
        hits = knowledge.retrieve(written.standalone, 10, per_document=10)
        if any(one.in_passage(hit.document_id, hit.text) for hit in hits for one in gold):
            prompt = written.prompt[-1].content if written.prompt else ""
            stored.append(float(any(_within(g["evidence"], prompt) for g in item["gold"])))
        if item.get("answer_keys"):
            text = written.text.lower()
            right.append(
                float(
                    written.outcome == Outcome.ANSWERED
                    and all(any(k.lower() in text for k in keys) for keys in item["answer_keys"])
                )
            )
        for statement in written.statements:
            true_marked.append(float(statement.verdict in (Verdict.WEAK, Verdict.UNCITED)))
            if true_marked[-1]:
                wrongly.append(f"{_said(written, statement)} ({statement.reason})")
    false_found: list[float] = []
    kept_true: list[float] = []
    missed: list[str] = []
    for item in items:
        writer = StandIn("lying")
        written, _ = ask(knowledge, item, writer)
        truth = {texts.text: texts.true for texts in writer.said}
        for statement in written.statements:
            text = _said(written, statement)
            if text not in truth:
                continue
            marked = statement.verdict in (Verdict.WEAK, Verdict.UNCITED)
            if truth[text]:
                kept_true.append(float(marked))
            else:
                false_found.append(float(marked))
                if not marked:
                    missed.append(text)
    table = Table(title=f"With the honest simulator, {len(sent)} questions")
    for name in (
        "tokens sent, median",
        "most",
        "evidence in it, of top 10",
        "right",
        "statements marked",
    ):
        table.add_column(name, justify="right")
    table.add_row(
        f"{np.median(sent):.0f}",
        f"{max(sent):.0f}",
        interval(stored),
        interval(right),
        interval(true_marked),
    )
    lies = Table(title="With the lying simulator: per cent of statements that are marked")
    for name in ("false statements", "marked", "true statements", "marked "):
        lies.add_column(name, justify="right")
    lies.add_row(
        str(len(false_found)), interval(false_found), str(len(kept_true)), interval(kept_true)
    )
    for text in missed[:25]:
        print("not found:", text)
    for text in wrongly[:25]:
        print("marked, though true:", text)
    return table, lies


def _said(written: Answer, statement: CheckedStatement) -> str:
    return statement.removed or written.text[statement.start : statement.end]


def _within(evidence: str, prompt: str) -> bool:
    """Whether a source holds the evidence: to the letter, or as rows, whose cells are sent between the names of their columns, all its
    words."""
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
