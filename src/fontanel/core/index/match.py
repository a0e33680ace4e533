"""Fusion of lexical and vector scores, and the calibrated match.

Coefficients come from `bench/tuning/calibrate.py`, run on questions about public manuals and never
on the demo.
"""

from __future__ import annotations

import numpy as np

from fontanel.core.arrays import Floats, Ids
from fontanel.facts import KEYWORD_WEIGHT

#: The share of the attainable keyword score that a passage with a good answer reaches.
LEXICAL_SHARE = 0.6
#: Weight of a passage's document against the passage itself, where words and meaning are blended.
DOCUMENT_WEIGHT = 0.375
#: How many of a document's passages speak for it.
SPEAKING = 3
#: The place down to which a search knows its candidates: below it they count as alike.
_KNOWN = 50

#: Logistic coefficients of the match: intercept, coverage, cosine.
_HYBRID = (-3.2, 2.0, 4.5)
_LEXICAL = (-1.5, 3.5)
_VECTOR = (-2.6, 5.2)


def blend(
    lexical: Floats, similarity: Floats, mode: str, keyword_weight: float = KEYWORD_WEIGHT
) -> tuple[Floats, Floats]:
    """Combine keyword and vector scores, each relative to the best of this search.

    A passage without a vector yet is judged by its keyword score in both parts.
    """
    words = lexical / max(float(lexical.max(initial=0.0)), 1e-9)
    if mode == "lexical" or np.all(np.isnan(similarity)):
        return words, np.zeros_like(words)
    if mode == "vector":
        existing: Floats = np.nan_to_num(similarity, nan=-1.0)
        return np.zeros_like(existing), existing
    best = max(float(np.nanmax(similarity)), 1e-9)
    meaning = np.clip(similarity / best, 0.0, 1.0)
    meaning = np.where(np.isnan(meaning), words, meaning)
    return (keyword_weight * words).astype(np.float32), ((1.0 - keyword_weight) * meaning).astype(
        np.float32
    )


def document_means(scores: Floats, documents: Ids, sizes: Ids) -> Floats:
    """Return the mean score of the best three passages of each candidate's document.

    A passage whose document covers the matter elsewhere too answers more often than an isolated
    one: its neighbours smooth its score, as those of a sentence do in Fernandez, Losada and
    Azzopardi, "Extending the language modeling framework for sentence retrieval to include local
    context" (2011). Scores below that of the fiftieth candidate are raised to it, as are those of
    passages that are not candidates, so that the mean does not depend on how many were proposed.

    Args:
        scores: Shape (n,), in any order.
        documents: The keys of their documents, shape (n,).
        sizes: The number of passages of each document, as far as known, shape (n,).
    """
    if not len(scores):
        return scores
    floor = (
        np.partition(scores, len(scores) - _KNOWN)[len(scores) - _KNOWN]
        if len(scores) > _KNOWN
        else scores.min()
    )
    order = np.lexsort((-scores, documents))
    first = np.concatenate([[True], np.diff(documents[order]) != 0])
    group, starts = np.cumsum(first) - 1, np.flatnonzero(first)
    here = np.diff(np.append(starts, len(scores)))
    speaking = np.minimum(np.maximum(np.maximum.reduceat(sizes[order], starts), here), SPEAKING)
    place = np.arange(len(scores)) - starts[group]
    above = np.where(place < SPEAKING, np.maximum(scores[order] - floor, 0.0), 0.0)
    means = np.empty_like(scores)
    means[order] = (floor + np.bincount(group, above) / speaking)[group]
    return means


def calibrated_match(coverage: Floats, similarity: Floats, mode: str) -> Floats:
    """A relevance in 0-1 that can be compared across questions."""
    keyword_only = _logistic(_LEXICAL[0] + _LEXICAL[1] * coverage)
    if mode == "lexical":
        return keyword_only
    meaning = np.nan_to_num(similarity)
    if mode == "vector":
        return _logistic(_VECTOR[0] + _VECTOR[1] * meaning)
    both = _logistic(_HYBRID[0] + _HYBRID[1] * coverage + _HYBRID[2] * meaning)
    return np.where(np.isnan(similarity), keyword_only, both).astype(np.float32)


def _logistic(x: Floats) -> Floats:
    return (1.0 / (1.0 + np.exp(-x))).astype(np.float32)
