"""Search modes on the same questions: keyword, semantic, hybrid, and additions.

The reference: windows of 170 words that overlap by 30; BM25 over their text and the same embedder;
both scaled to 0-1 and added half and half.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from rich.table import Table

from collection import Collection, Gold
from fontanel.core.index import Mode, Query, Snapshot, VectorSegment, WordsEntry, WordsSegment
from fontanel.core.text.analysis import Analyser

_WINDOW, _REPEATED, _DEPTH = 170, 30, 20

#: A search: the question to (file, text) of what it found, best first.
Way = Callable[[str], list[tuple[str, str]]]

#: Scores of passages.
Scores = np.ndarray[Any, np.dtype[np.floating]]


def own_ways(collection: Collection) -> dict[str, Way]:
    def way(mode: Mode, **more: Any) -> Way:
        def search(question: str) -> list[tuple[str, str]]:
            vector = collection.cache.embed([question])[0]
            query = Query(
                question, vector, mode, _DEPTH, **{"per_document": _DEPTH, "fold": False, **more}
            )
            results = []
            for hit in collection.snapshot.search(query):
                key, passage = collection.passages[hit.passage_id]
                results.append(
                    (collection.documents[key].file, f"{passage.context}\n{passage.text}")
                )
            return results

        return search

    return {
        "words": way(Mode.LEXICAL),
        "meaning": way(Mode.VECTOR),
        "both": way(Mode.HYBRID, document_weight=0.0),
        "both, with the document": way(Mode.HYBRID),
        "copies folded too": way(Mode.HYBRID, fold=True),
        "three of a document too": way(Mode.HYBRID, fold=True, per_document=3),
    }


def reference(collection: Collection) -> Way:
    windows: list[tuple[str, str]] = []
    for document in collection.documents:
        words = " ".join(passage.text for passage in document.passages).split()
        for start in range(0, max(1, len(words) - _REPEATED), _WINDOW - _REPEATED):
            windows.append((document.file, " ".join(words[start : start + _WINDOW])))
    analyser = Analyser("en")
    entries = [
        WordsEntry(n, n, ([], [], analyser.terms(text), [])) for n, (_, text) in enumerate(windows)
    ]
    vectors = collection.cache.embed([text for _, text in windows], progress=True)
    snapshot = Snapshot(
        [WordsSegment.build(entries)], [VectorSegment(np.arange(len(windows)), vectors)]
    )

    def scaled(scores: Scores) -> Scores:
        result: Scores = (scores - scores.min()) / max(float(scores.max() - scores.min()), 1e-9)
        return result

    def search(question: str) -> list[tuple[str, str]]:
        lexical = np.zeros(len(windows))
        for hit in snapshot.search(
            Query(question, None, Mode.LEXICAL, 1000, per_document=1000, fold=False)
        ):
            lexical[hit.passage_id] = hit.lexical
        cosine = vectors @ collection.cache.embed([question])[0]
        blend = 0.5 * scaled(lexical) + 0.5 * scaled(cosine)
        return [windows[n] for n in np.argsort(-blend)[:_DEPTH]]

    return search


def compare(
    collection: Collection, items: Sequence[dict[str, Any]], interval: Callable[[list[float]], str]
) -> Table:
    """A table of each way's ranks on the questions that have an answer and no history."""
    asked = [
        item
        for item in items
        if item.get("gold") and not item.get("history") and not item.get("all_needed")
    ]
    table = Table(title=f"Ways to search, {len(asked)} questions: per cent, with 95% intervals")
    for name in ("way", "rank 1", "top 5", "top 10", "MRR@20", "nDCG@10", "MRR over the reference"):
        table.add_column(name, justify="left" if name == "way" else "right")
    plain = reference(collection)
    least = [_reciprocal(_rank(plain(item["question"]), collection.gold(item))) for item in asked]
    for name, way in {**own_ways(collection), "reference": plain}.items():
        ranks = [_rank(way(item["question"]), collection.gold(item)) for item in asked]
        gains = [_reciprocal(rank) - before for rank, before in zip(ranks, least, strict=True)]
        table.add_row(
            name,
            *(interval([float(r is not None and r <= k) for r in ranks]) for k in (1, 5, 10)),
            interval([_reciprocal(rank) for rank in ranks]),
            # One passage is asked for, so that the best gain attainable is 1.
            interval([1 / np.log2(r + 1) if r and r <= 10 else 0.0 for r in ranks]),
            # Question by question, which tells more than two intervals that overlap.
            interval(gains) if name != "reference" else "",
        )
    return table


def _rank(found: list[tuple[str, str]], gold: list[Gold]) -> int | None:
    return next(
        (
            rank
            for rank, place in enumerate(found, 1)
            if any(one.in_passage(*place) for one in gold)
        ),
        None,
    )


def _reciprocal(rank: int | None) -> float:
    return 1 / rank if rank else 0.0
