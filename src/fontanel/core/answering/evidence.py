"""Evidence: the passages that an answer may use, and whether they are sufficient."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from dataclasses import dataclass, field, fields
from datetime import date
from functools import cache
from importlib.resources import files
from typing import Protocol

from fontanel.core.arrays import Floats
from fontanel.core.evidence import WindowScore, WindowText
from fontanel.core.passages.splitting import Locator, PassagePart
from fontanel.core.validity import Outdated


@dataclass(frozen=True, slots=True, kw_only=True)
class EvidencePassage:
    """A passage as answering sees it.

    `parts` use offsets of the text, from `start` on.
    """

    passage_id: int
    document_id: str
    revision_id: str
    title: str
    text: str
    start: int
    locator: Locator
    match: float
    similarity: float | None
    context: str = ""
    parts: tuple[PassagePart, ...] = ()
    language: str = "en"
    terms: dict[str, float] = field(default_factory=dict)
    kb_id: str = ""
    #: The titles of other documents that say the same.
    also: tuple[str, ...] = ()
    #: Why its document is not in force, None if it is.
    outdated: Outdated | None = None
    #: Whether statements of documents in force are preferred to its own.
    demoted: bool = False
    #: The day from which its document is in force, or the first date at its beginning.
    dated: date | None = None


class Knowledge(Protocol):
    """The collection behind an answer: passages, weights of terms, vectors of texts."""

    def retrieve(self, question: str, limit: int) -> list[EvidencePassage]:
        """Return the best passages for a stand-alone question, best first."""
        ...

    def terms(self, text: str) -> list[str]:
        """The index terms of a text."""
        ...

    def idf(self, term: str) -> float:
        """Return the inverse document frequency of a term."""
        ...

    def embed(self, texts: Sequence[str]) -> Floats | None:
        """Return unit vectors of texts, None without an embedder."""
        ...

    def whole(self, passage: EvidencePassage) -> Sequence[EvidencePassage]:
        """Return all passages of a passage's document, in order; none if there are too many."""
        ...

    def score(self, question: str, windows: Sequence[WindowText]) -> list[WindowScore] | None:
        """Return how well windows of text answer a question, None without an evidence model."""
        ...


@dataclass(frozen=True, slots=True)
class Support:
    """The features of evidence that suggest it contains an answer, each in 0-1.

    similarity: cosine of the best passage.
    statement: cosine of the best statement.
    coverage: share of the question's term weight in the best passage with its headings.
    statement_coverage: the same in the best statement.
    soft: share covered by similarity, word by word; weakest: the minimum over the words.
    shaped: the statement has the shape that is asked for (a number, a time, a person).
    relevant: 1 less the similarity that leaving out a word of the question would gain;
    `passage_relevant` for the best passage.
    window: what the evidence model says about the windows of the best statements; a logit scaled
    to 0-1, 0 without the model.
    """

    similarity: float
    statement: float
    coverage: float
    statement_coverage: float
    soft: float
    weakest: float
    shaped: float
    relevant: float
    passage_relevant: float
    window: float = 0.0

    def features(self) -> list[float]:
        return [float(getattr(self, name)) for name in FEATURES]


FEATURES = tuple(item.name for item in fields(Support))
NO_SUPPORT = Support(*[0.0] * len(FEATURES))


@cache
def _coefficients() -> dict[str, dict[str, float]]:
    loaded: dict[str, dict[str, float]] = json.loads(
        files("fontanel.core.answering").joinpath("coefficients.json").read_text()
    )
    return loaded


def sufficiency(support: Support, *, keyword_only: bool, judged: bool = False) -> float:
    """Return the likelihood, 0-1, that the evidence answers the question.

    A logistic model of the features; with the evidence model, one of its relevance and of the
    likelihood without it. `bench/tuning/calibrate.py` fits the coefficients on tuning questions.

    Args:
        keyword_only: No vectors were used.
        judged: The evidence model judged it.
    """
    weights = _coefficients()["words" if keyword_only else "both"]
    total = weights["intercept"]
    for name, value in zip(FEATURES, support.features(), strict=True):
        total += weights.get(name, 0.0) * value
    if judged:
        weights = _coefficients()["judged"]
        total = (
            weights["intercept"]
            + weights["window"] * support.window
            + weights["unjudged"] * probability(total)
        )
    return probability(total)


def probability(logit: float) -> float:
    return 1.0 / (1.0 + math.exp(-logit))
