"""Match a question with approved answers.

Embeddings choose the candidates; whether one answers the question is for the evidence model to say,
since near misses share more words with an approved question than other wordings of it do. Nothing
is matched that names another number, identifier or option.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, fields
from functools import cache
from importlib.resources import files

import numpy as np

from fontanel.core.answering.composing.judging import scaled
from fontanel.core.answering.evidence import probability
from fontanel.core.answering.question.required import exact_names
from fontanel.core.answering.question.shape import shape_of
from fontanel.core.arrays import Floats
from fontanel.core.evidence import WindowScore, WindowText
from fontanel.core.text.analysis import fold
from fontanel.core.text.sentences import sentence_spans

#: Approved answers whose likelihood is calculated for a question, by cosine.
_CANDIDATES = 3
#: The cosine below which nothing is a candidate.
_MIN_COSINE = 0.25
#: The cosine that the nearest other approved answer has at least: there may be few.
_OTHERS = 0.5
#: The likelihood of a question with the index terms and the shape of an approved one.
_SAME_TERMS = 0.95
#: The maximum characters of an approved answer that the evidence model reads.
_MAX_READ = 900
_NUMBER = re.compile(r"\d+(?:[.,]\d+)*")
_NOT_WORD = re.compile(r"[\W_]+")

Terms = Callable[[str], list[str]]
Score = Callable[[str, Sequence[WindowText]], list[WindowScore] | None]


@dataclass(frozen=True, slots=True)
class ApprovedText:
    """An approved answer: its question, other wordings of it, and the answer's text."""

    id: str
    question: str
    phrasings: tuple[str, ...]
    text: str

    @property
    def wordings(self) -> tuple[str, ...]:
        return (self.question, *self.phrasings)


@dataclass(frozen=True, slots=True)
class Features:
    """What is known about a question and an approved answer, each in 0-1.

    similarity: cosine with its nearest wording together with its text.
    lead: how far that is ahead of the nearest other approved answer, or of what is usual.
    relevance: what the evidence model says; a scaled logit, 0 without the model.
    shape: 1 if both ask for the same shape of answer (a time, a person).
    """

    similarity: float
    lead: float
    relevance: float
    shape: float


@dataclass(frozen=True, slots=True)
class Match:
    """An approved answer and how likely it answers the question that was asked, 0-1."""

    id: str
    wording: str
    likelihood: float
    features: Features | None = None


class ApprovedSet:
    """Approved answers with their vectors.

    Args:
        entries: The approved answers.
        vectors: Unit vectors of what `texts` returns for the first entries; None without an
            embedder: only equal wordings match.
        embedded: How many entries have vectors; default: all. The others match by equal wording.
    """

    def __init__(
        self, entries: Sequence[ApprovedText], vectors: Floats | None, embedded: int | None = None
    ) -> None:
        self._same: dict[str, tuple[ApprovedText, str]] = {}
        for entry in entries:
            for wording in entry.wordings:
                self._same.setdefault(_plain(wording), (entry, wording))
        self._entries = entries[:embedded]
        owners = [place for place, entry in enumerate(self._entries) for _ in entry.wordings]
        self._wordings = [wording for entry in self._entries for wording in entry.wordings]
        self._owners = np.array(owners, dtype=np.int64)
        self._vectors = vectors

    @staticmethod
    def texts(entries: Sequence[ApprovedText]) -> list[str]:
        """Return each wording with its answer's text, in order."""
        return [
            f"{wording} {entry.text[:_MAX_READ]}" for entry in entries for wording in entry.wordings
        ]

    def matches(
        self,
        question: str,
        vector: Floats | None,
        terms: Terms,
        score: Score,
    ) -> list[Match]:
        """Return the approved answers that may answer a question, likeliest first.

        Args:
            question: The stand-alone question.
            vector: Its unit vector.
            terms: Returns the index terms of a text.
            score: Scores windows of text for the question with the evidence model.
        """
        if (same := self._same.get(_plain(question))) is not None:
            entry, wording = same
            return [Match(entry.id, wording, 1.0)]
        if vector is None or self._vectors is None or not self._entries:
            return []
        cosines = self._vectors @ vector
        best = np.full(len(self._entries), -1.0, dtype=np.float32)
        np.maximum.at(best, self._owners, cosines)
        count = min(_CANDIDATES, len(best))
        top = np.argpartition(-best, count - 1)[:count]
        top = top[np.argsort(-best[top], kind="stable")]
        places = [int(place) for place in top if best[place] >= _MIN_COSINE]
        windows = [_window(self._entries[place].text) for place in places]
        scores = score(question, windows) if places else None
        asked = set(terms(question))
        results = []
        for rank, place in enumerate(places):
            entry = self._entries[place]
            own = np.flatnonzero(self._owners == place)
            wording = self._wordings[int(own[np.argmax(cosines[own])])]
            if not names_the_same(question, wording, entry.text):
                continue
            others = [float(best[other]) for other in top if other != place] or [0.0]
            features = Features(
                float(best[place]),
                float(best[place]) - max(*others, _OTHERS),
                scaled(scores[rank].relevance) if scores else 0.0,
                float(shape_of(question) == shape_of(wording)),
            )
            likely = likelihood(features)
            if features.shape and any(asked == set(terms(one)) for one in entry.wordings):
                likely = max(likely, _SAME_TERMS)
            results.append(Match(entry.id, wording, likely, features))
        return sorted(results, key=lambda match: -match.likelihood)


def names_the_same(question: str, wording: str, answer: str) -> bool:
    """Return whether a question and an approved one name the same numbers and identifiers.

    Every number and name of one must be in the other, or at least in the answer if only the
    question that was asked has it ("Is 12 knots too fast in the basin?").
    """
    asked, approved = _names(question), _names(wording)
    return asked - approved <= _names(answer) and not (approved - asked and asked - approved)


def _names(text: str) -> set[str]:
    return {fold(name) for name in exact_names(text)} | set(_NUMBER.findall(text))


def _window(text: str) -> WindowText:
    text = text[:_MAX_READ]
    return WindowText("", tuple(text[a:b] for a, b in sentence_spans(text)) or (text,))


def _plain(question: str) -> str:
    """Return a question without case and punctuation."""
    return _NOT_WORD.sub(" ", fold(question)).strip()


@cache
def _coefficients() -> dict[str, float]:
    text = files("fontanel.core.curation").joinpath("coefficients.json").read_text()
    loaded: dict[str, float] = json.loads(text)
    return loaded


FEATURES = tuple(item.name for item in fields(Features))


def likelihood(features: Features) -> float:
    """Return how likely an approved answer answers a question, 0-1.

    A logistic model; `bench/tuning/calibrate_approved.py` fits its coefficients.
    """
    weights = _coefficients()
    return probability(
        weights["intercept"] + sum(weights[name] * getattr(features, name) for name in FEATURES)
    )
