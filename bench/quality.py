"""Quality of search and answers on documents and questions, from the core alone.

make quality [COLLECTION=<folder>] [QUESTIONS=<file.jsonl>] [JSON=<file>]
"""

from __future__ import annotations

import argparse
import json
import sys
import time
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from rich.console import Console
from rich.table import Table

from collection import ROOT, Collection, CollectionKnowledge, bare, load_questions
from fontanel.core.answering import (
    BUILT_IN,
    Answer,
    AnswerEvent,
    AnswerSettings,
    Exchange,
    Finished,
    Outcome,
    Verdict,
    answer,
)
from fontanel.core.answering.composing.judging import CANDIDATES, judge
from fontanel.core.answering.question.followup import search_form
from simulator import SimulatedModel
from ways import compare


def run_question(
    knowledge: CollectionKnowledge,
    item: dict[str, Any],
    writer: SimulatedModel | None = None,
    settings: AnswerSettings | None = None,
) -> dict[str, Any]:
    """Search and answer a question with the composer or a writer; return the results."""
    history: list[Exchange] = []
    for earlier in item.get("history", []):
        finished = finished_answer(answer(earlier, history, knowledge, settings))
        history.append(
            Exchange(earlier, finished.standalone, tuple(c.title for c in finished.citations))
        )
    started = time.monotonic()
    events = answer(item["question"], history, knowledge, settings, writer=writer)
    result = finished_answer(events)
    seconds = time.monotonic() - started
    gold = knowledge.collection.gold(item)
    query = search_form(result.standalone, knowledge.terms)
    hits = knowledge.retrieve(query, CANDIDATES, per_document=20)
    if settings is None or settings.deep:
        judgement = judge(query, hits, knowledge)
        hits = hits if judgement is None else judgement.ranked(hits)
    hits = hits[:20]
    holds = [[g for g in gold if g.in_passage(hit.document_id, hit.text)] for hit in hits]
    if item.get("all_needed") and gold:
        ranks = [next((r for r, stored in enumerate(holds, 1) if g in stored), None) for g in gold]
        rank = max(ranks) if all(ranks) else None  # type: ignore[type-var]
    else:
        rank = next((r for r, stored in enumerate(holds, 1) if stored), None)
    right = is_right(item, result.text)
    files = set().union(*(g.files for g in gold))
    passages = {
        (hit.document_id, hit.passage_id): bare(hit.text) for hit in [*hits, *result.evidence]
    }
    near = [c for c in result.citations if c.document_id in files]
    cited_exact = any(
        any(
            g.evidence in passages.get((c.document_id, c.passage_id), "")
            or bare(c.quote) in g.evidence
            for g in gold
        )
        for c in near
    )
    return {
        "id": item["id"],
        "kind": item["kind"],
        "question": item["question"],
        "standalone": result.standalone,
        "rank": rank,
        "answered": result.outcome == Outcome.ANSWERED,
        "declined": result.outcome == Outcome.DECLINED,
        "right_anyway": right
        if writer is not None
        else _right_anyway(knowledge, item, history, settings, result),
        "right": right and result.outcome == Outcome.ANSWERED,
        "cited_document": bool(near),
        "cited": cited_exact,
        "supported": _is_supported(result, written=writer is not None)
        if result.citations
        else None,
        "sufficiency": round(result.sufficiency, 3),
        "answer": result.text,
        "citations": [
            {"file": c.document_id, "quote": c.quote, "support": round(c.support, 2)}
            for c in result.citations
        ],
        "seconds": round(seconds, 3),
    }


def finished_answer(events: Iterable[AnswerEvent]) -> Answer:
    """Return the answer at the end of its events."""
    return next(event for event in events if isinstance(event, Finished)).answer


def is_right(item: dict[str, Any], text: str) -> bool:
    """Return whether a text has one string of each of the answer's keys."""
    keys: list[list[str]] = item["answer_keys"]
    return bool(keys) and all(any(key.lower() in text.lower() for key in one) for one in keys)


def _right_anyway(
    knowledge: CollectionKnowledge,
    item: dict[str, Any],
    history: list[Exchange],
    settings: AnswerSettings | None,
    result: Answer,
) -> bool:
    """Return whether an answer is right, or would be if it was not declined."""
    if result.outcome == Outcome.DECLINED:
        forced = replace(settings or AnswerSettings(), evidence_needed=0.0)
        events = answer(item["question"], history, knowledge, forced)
        result = finished_answer(events)
    return is_right(item, result.text)


def reliability(outcomes: list[dict[str, Any]]) -> Table:
    """Return how often answers are right, by their sufficiency; unanswerable ones never are."""
    table = Table(title="Sufficiency: how often answers are right, with those that were declined")
    for name in ("sufficiency", "n", "mean", "right"):
        table.add_column(name, justify="left" if name == "sufficiency" else "right")
    for low in (0.0, 0.2, 0.4, 0.6, 0.8):
        own = [o for o in outcomes if low <= min(o["sufficiency"], 0.999) < low + 0.2]
        if own:
            mean = float(np.mean([o["sufficiency"] for o in own]))
            right = interval([float(o["right_anyway"]) for o in own])
            table.add_row(f"{low:.1f}-{low + 0.2:.1f}", str(len(own)), f"{100 * mean:.0f}", right)
    return table


def _is_supported(result: Answer, *, written: bool) -> bool:
    """Return whether each statement is supported; quotations verbatim."""
    if written:
        return all(
            statement.verdict in (Verdict.SUPPORTED, Verdict.NONE)
            for statement in result.statements
        )
    return all(citation.support >= 0.8 for citation in result.citations)


def interval(values: list[float]) -> str:
    """The mean with its 95% bootstrap interval, in per cent."""
    if not values:
        return "-"
    data = np.array(values, dtype=float)
    random = np.random.default_rng(7)
    means = data[random.integers(0, len(data), (2000, len(data)))].mean(axis=1)
    low, high = np.percentile(means, [2.5, 97.5])
    return f"{100 * data.mean():.0f} ({100 * low:.0f}-{100 * high:.0f})"


def report(outcomes: list[dict[str, Any]], writer: str) -> None:
    """The tables of search and of answers; for a model's answers the second alone."""
    groups: dict[str, list[dict[str, Any]]] = defaultdict(list)
    for outcome in outcomes:
        groups[outcome["kind"]].append(outcome)
    answerable = [o for o in outcomes if o["kind"] != "unanswerable"]
    search = Table(
        title="Search: per cent of questions whose evidence is found, with 95% intervals"
    )
    answers = Table(title=f"Answers, {writer}: per cent, with 95% intervals")
    for name in ("kind", "n", "rank 1", "top 5", "top 10", "MRR@20"):
        search.add_column(name, justify="left" if name == "kind" else "right")
    for name in (
        "kind",
        "n",
        "right",
        "cited document",
        "cited place",
        "right and cited",
        "supported",
        "declined",
    ):
        answers.add_column(name, justify="left" if name == "kind" else "right")
    for kind, items in [*sorted(groups.items()), ("all answerable", answerable)]:
        if kind != "unanswerable":
            ranks = [o["rank"] for o in items]
            search.add_row(
                kind,
                str(len(items)),
                *(interval([float(r is not None and r <= k) for r in ranks]) for k in (1, 5, 10)),
                interval([1 / r if r else 0.0 for r in ranks]),
            )
        columns = [[float(o[key]) for o in items] for key in ("right", "cited_document", "cited")]
        both = [float(o["right"] and o["cited_document"]) for o in items]
        supported = [float(o["supported"]) for o in items if o["supported"] is not None]
        declined = interval([float(o["declined"]) for o in items])
        shown = (
            ["-"] * 4
            if kind == "unanswerable"
            else [*(interval(c) for c in columns), interval(both)]
        )
        answers.add_row(kind, str(len(items)), *shown, interval(supported), declined)
    console = Console(width=120)
    if writer == BUILT_IN:
        console.print(search)
    console.print(answers)
    times = sorted(o["seconds"] for o in outcomes)
    console.print(
        f"seconds per answer: median {times[len(times) // 2]:.3f}, slowest {times[-1]:.3f}"
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--collection", type=Path, default=ROOT / "demo" / "documents")
    parser.add_argument("--questions", type=Path, default=ROOT / "demo" / "questions.jsonl")
    parser.add_argument("--json", type=Path)
    parser.add_argument(
        "--fast", action="store_true", help="search and answer without the evidence model"
    )
    parser.add_argument("--composer", action="store_true", help="leave out the simulated models")
    parser.add_argument(
        "--ways",
        action="store_true",
        help="search in several ways and beside a reference, no answers",
    )
    arguments = parser.parse_args()
    collection = Collection(arguments.collection)
    print(
        f"{len(collection.documents)} documents, {len(collection.passages)} passages,"
        f" {len(collection.failures)} failed"
    )
    for failure in collection.failures[:10]:
        print("  ", failure, file=sys.stderr)
    if arguments.ways:
        Console(width=120).print(compare(collection, load_questions(arguments.questions), interval))
        return
    knowledge = CollectionKnowledge(collection)
    items = load_questions(arguments.questions)
    settings = AnswerSettings(deep=not arguments.fast)
    outcomes = [run_question(knowledge, item, settings=settings) for item in items]
    report(outcomes, BUILT_IN)
    Console(width=120).print(reliability(outcomes))
    if not arguments.composer:
        written = [
            run_question(knowledge, item, SimulatedModel("honest"), settings) for item in items
        ]
        report(written, "the honest simulator")
    if arguments.json:
        arguments.json.write_text(json.dumps(outcomes, indent=1, ensure_ascii=False) + "\n")


if __name__ == "__main__":
    main()
