"""Fusion of lexical and vector scores, and the calibrated match.

Coefficients come from `bench/calibrate.py`, run on questions about public manuals; the demo never enters.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float32]

#: A passage that answers a question well holds about this share of the lexical score attainable in theory.
LEXICAL_SHARE = 0.6
#: Weight of words against meaning in the blend.
WORDS_WEIGHT = 0.35

#: Logistic coefficients of the match: intercept, coverage, cosine.
_HYBRID = (-3.2, 2.0, 4.5)
_LEXICAL = (-1.5, 3.5)
_VECTOR = (-2.6, 5.2)


def blend(lexical: Floats, similarity: Floats, mode: str, words_weight: float = WORDS_WEIGHT) -> tuple[Floats, Floats]:
    """What words and what meaning give to the order of candidates: scores, each divided by the best of this search, by weight.

    A passage that has no vector yet is judged by its words in both parts.
    """
    words = lexical / max(float(lexical.max(initial=0.0)), 1e-9)
    if mode == "lexical" or np.all(np.isnan(similarity)):
        return words, np.zeros_like(words)
    if mode == "vector":
        known: Floats = np.nan_to_num(similarity, nan=-1.0)
        return np.zeros_like(known), known
    best = max(float(np.nanmax(similarity)), 1e-9)
    meaning = np.clip(similarity / best, 0.0, 1.0)
    meaning = np.where(np.isnan(meaning), words, meaning)
    return (words_weight * words).astype(np.float32), ((1.0 - words_weight) * meaning).astype(np.float32)


def calibrated_match(coverage: Floats, similarity: Floats, mode: str) -> Floats:
    """A relevance in 0-1 that can be compared across questions."""
    by_words = _logistic(_LEXICAL[0] + _LEXICAL[1] * coverage)
    if mode == "lexical":
        return by_words
    meaning = np.nan_to_num(similarity)
    if mode == "vector":
        return _logistic(_VECTOR[0] + _VECTOR[1] * meaning)
    both = _logistic(_HYBRID[0] + _HYBRID[1] * coverage + _HYBRID[2] * meaning)
    return np.where(np.isnan(similarity), by_words, both).astype(np.float32)


def _logistic(x: Floats) -> Floats:
    return (1.0 / (1.0 + np.exp(-x))).astype(np.float32)
