"""Choosing the candidates to show: near-duplicates folded, neighbours merged, limits kept."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from operator import eq

from fontanel.core.arrays import Ids
from fontanel.core.index.postings import SKETCH
from fontanel.core.index.query import Query

#: The maximum number of passages that are merged into one.
_MAX_JOINED = 3
#: Passages with this many equal hashes are near-duplicates.
_ALIKE = SKETCH - 1


@dataclass(slots=True)
class Shown:
    """A candidate to show, by its index, with those folded into it and merged with it."""

    index: int
    also: list[int] = field(default_factory=list)
    merged: list[int] = field(default_factory=list)


def choose(
    query: Query, order: Sequence[int], ids: Ids, keys: Ids, sketches: Sequence[Sequence[int]]
) -> list[Shown]:
    """Return the candidates to show.

    Args:
        query: Says whether to fold and merge, and how many to show.
        order: The candidates' indices, best first.
        ids: The ids of their passages, shape (n,).
        keys: The keys of their documents, shape (n,).
        sketches: The min-hashes of their passages, empty without folding.
    """
    chosen: list[Shown] = []
    by_document: dict[int, int] = {}
    # Two that differ in at most one hash share the first or the second.
    by_hash: dict[tuple[int, int], list[int]] = {}
    # Passages of a document are numbered consecutively: these are the neighbours of the results.
    neighbours: dict[tuple[int, int], Shown] = {}
    for i in order:
        sketch = sketches[i] if sketches and any(sketches[i]) else ()
        near = [shown for column in enumerate(sketch[:2]) for shown in by_hash.get(column, ())]
        same = next(
            (n for n in near if sum(map(eq, sketch, sketches[chosen[n].index])) >= _ALIKE), None
        )
        if same is not None:
            chosen[same].also.append(i)
            continue
        key, passage = int(keys[i]), int(ids[i])
        shown = neighbours.get((key, passage)) if query.join else None
        if shown is not None and len(shown.merged) + 1 < _MAX_JOINED:
            shown.merged.append(i)
        elif len(chosen) < query.limit and by_document.get(key, 0) < query.per_document:
            by_document[key] = by_document.get(key, 0) + 1
            for column in enumerate(sketch[:2]):
                by_hash.setdefault(column, []).append(len(chosen))
            shown = Shown(i)
            chosen.append(shown)
        if shown is not None:
            neighbours.setdefault((key, passage - 1), shown)
            neighbours.setdefault((key, passage + 1), shown)
    return chosen
