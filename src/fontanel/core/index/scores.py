"""The scores of a search's candidates, as columns."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields
from math import isnan
from typing import Any

from fontanel.core.arrays import Floats, Ids
from fontanel.core.index.choosing import Shown
from fontanel.core.index.query import Candidate


@dataclass(frozen=True, slots=True, kw_only=True)
class Scores:
    """Arrays of shape (n,), one element per candidate; see `Candidate` for their meaning."""

    ids: Ids
    keys: Ids
    scores: Floats
    matches: Floats
    lexical: Floats
    coverage: Floats
    similarity: Floats
    window: Floats
    keyword_part: Floats
    semantic_part: Floats
    document_part: Floats
    boost: Floats

    def columns(self) -> dict[str, list[Any]]:
        """Return the columns as lists, whose elements are cheaper to read one by one."""
        return {field.name: getattr(self, field.name).tolist() for field in fields(self)}


def candidate(
    columns: Mapping[str, list[Any]],
    shown: Shown,
    terms: dict[str, float],
    by_field: dict[str, tuple[float, ...]],
) -> Candidate:
    """Return a chosen candidate with its scores."""
    i = shown.index
    ids, keys = columns["ids"], columns["keys"]
    similarity, window = columns["similarity"][i], columns["window"][i]
    return Candidate(
        passage_id=ids[i],
        document_key=keys[i],
        score=columns["scores"][i],
        match=columns["matches"][i],
        lexical=columns["lexical"][i],
        coverage=columns["coverage"][i],
        similarity=None if isnan(similarity) else similarity,
        window=None if isnan(window) else window,
        terms=terms,
        fields=by_field,
        keyword_part=columns["keyword_part"][i],
        semantic_part=columns["semantic_part"][i],
        document_part=columns["document_part"][i],
        boost=columns["boost"][i],
        also=tuple((ids[j], keys[j]) for j in shown.also),
        merged=tuple(sorted(ids[j] for j in shown.merged)),
    )
