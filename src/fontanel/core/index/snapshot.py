"""A snapshot: the segments that one search sees, whatever is written meanwhile."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import numpy.typing as npt

from fontanel.core.analysis import Analyser
from fontanel.core.index.match import LEXICAL_SHARE, blend, calibrated_match
from fontanel.core.index.segments import Ids, VectorSegment, WordsSegment
from fontanel.core.index.words import FIELDS, K1, idf, impacts

Floats = npt.NDArray[np.float32]
#: Rows and field frequencies of terms in one segment.
_Postings = dict[str, tuple[npt.NDArray[np.int32], npt.NDArray[np.uint8]]]


class Mode(StrEnum):
    """How passages are found: by words, by meaning, or by both."""

    LEXICAL = "lexical"
    VECTOR = "vector"
    HYBRID = "hybrid"


@dataclass(frozen=True, slots=True)
class Query:
    """A search. `vector` is the question's unit vector, by the edition's own embedder; without one, words alone decide.

    `documents` are the keys of the documents to look in; None means all.
    """

    text: str
    vector: Floats | None = None
    mode: Mode = Mode.HYBRID
    limit: int = 10
    documents: Ids | None = None
    per_document: int = 3


@dataclass(frozen=True, slots=True)
class Candidate:
    """A passage that a search found. `score` orders the results of one search; `match` (0-1) compares across searches.

    `lexical` is the BM25 score and `coverage` its share of the best score attainable; `similarity` is the cosine, None
    while the passage has no vector. `terms` gives what each matching term added to the lexical score.
    """

    passage_id: int
    document_key: int
    score: float
    match: float
    lexical: float
    coverage: float
    similarity: float | None
    terms: dict[str, float]


class Snapshot:
    """Searches over fixed segments. `dead` are the ids of passages that left since their segments were written."""

    def __init__(
        self, words: Sequence[WordsSegment] = (), vectors: Sequence[VectorSegment] = (), dead: Ids | None = None
    ) -> None:
        self.words = tuple(words)
        self.vectors = tuple(vectors)
        self._dead = np.sort(dead) if dead is not None else np.zeros(0, dtype=np.int64)
        self.alive = [self.living(segment.passage_ids) for segment in self.words]
        self.vectors_alive = [self.living(segment.passage_ids) for segment in self.vectors]
        self.passages = int(sum(int(mask.sum()) for mask in self.alive))
        totals = [segment.lengths[mask].sum(axis=0) for segment, mask in zip(self.words, self.alive, strict=True)]
        self._averages: Floats = np.asarray(
            np.sum(totals, axis=0, dtype=np.float64) / max(self.passages, 1) if totals else np.ones(len(FIELDS)),
            dtype=np.float32,
        )
        languages = frozenset().union(*(segment.languages for segment in self.words)) or frozenset({"en"})
        self._analysers = [Analyser(language) for language in sorted(languages, key=lambda code: (code != "en", code))]
        ids = [segment.passage_ids[mask] for segment, mask in zip(self.words, self.alive, strict=True)]
        keys = [segment.document_keys[mask] for segment, mask in zip(self.words, self.alive, strict=True)]
        flat = np.concatenate(ids) if ids else np.zeros(0, dtype=np.int64)
        order = np.argsort(flat)
        self._ids: Ids = flat[order]
        self._keys: Ids = np.concatenate(keys)[order] if keys else flat

    def living(self, passage_ids: Ids) -> npt.NDArray[np.bool_]:
        """Which of the ids are not dead."""
        if not len(self._dead):
            return np.ones(len(passage_ids), dtype=bool)
        place = np.searchsorted(self._dead, passage_ids).clip(max=len(self._dead) - 1)
        alive: npt.NDArray[np.bool_] = self._dead[place] != passage_ids
        return alive

    def query_terms(self, text: str) -> list[str]:
        """The distinct index terms of a question, in each language that the segments hold."""
        return list(dict.fromkeys(term for analyser in self._analysers for term in analyser.terms(text)))

    def idf(self, term: str) -> float:
        """How telling a term is among the living passages."""
        return self._weights([term], self._postings([term]))[term]

    def _postings(self, terms: Sequence[str]) -> list[_Postings]:
        """For each words segment, the postings of the terms that it holds."""
        found: list[_Postings] = []
        for segment in self.words:
            looked_up = {term: segment.postings(term) for term in terms}
            found.append({term: pair for term, pair in looked_up.items() if len(pair[0])})
        return found

    def _weights(self, terms: Sequence[str], postings: Sequence[_Postings]) -> dict[str, float]:
        """The idf of each term, from the living passages in its postings."""
        counts = dict.fromkeys(terms, 0)
        for alive, held in zip(self.alive, postings, strict=True):
            for term, (rows, _) in held.items():
                counts[term] += int(alive[rows].sum())
        return {term: idf(self.passages, count) for term, count in counts.items()}

    def search(self, query: Query) -> list[Candidate]:
        """Return the best passages, best first: at most `limit`, at most `per_document` of one document."""
        if not self.passages:
            return []
        allowed = None if query.documents is None else np.isin(self._keys, query.documents)
        terms = self.query_terms(query.text) if query.mode != Mode.VECTOR else []
        postings = self._postings(terms)
        weights = self._weights(terms, postings)
        lexical = self._score_words(postings, weights)
        similarity = self._score_vectors(query)
        depth = max(query.limit * 10, 100)
        rows = _union(_top(lexical, allowed, depth), _top(similarity, allowed, depth))
        rows = rows[(np.nan_to_num(lexical[rows]) > 0) | ~np.isnan(similarity[rows])]
        best = sum(weights.values()) * (K1 + 1.0) * LEXICAL_SHARE
        coverage = np.clip(lexical[rows] / best, 0.0, 1.0) if best else np.zeros(len(rows), dtype=np.float32)
        scores = blend(lexical[rows], similarity[rows], query.mode)
        matches = calibrated_match(coverage, similarity[rows], query.mode)
        order = np.argsort(-scores, kind="stable")
        chosen = self._cap(rows, order, query)
        return [
            Candidate(
                passage_id=int(self._ids[rows[i]]),
                document_key=int(self._keys[rows[i]]),
                score=float(scores[i]),
                match=float(matches[i]),
                lexical=float(lexical[rows[i]]),
                coverage=float(coverage[i]),
                similarity=None if np.isnan(similarity[rows[i]]) else float(similarity[rows[i]]),
                terms=self._explain(int(self._ids[rows[i]]), postings, weights),
            )
            for i in chosen
        ]

    def _cap(self, rows: npt.NDArray[np.int64], order: npt.NDArray[np.int64], query: Query) -> list[int]:
        taken: dict[int, int] = {}
        chosen: list[int] = []
        for i in order:
            key = int(self._keys[rows[i]])
            if taken.get(key, 0) < query.per_document:
                taken[key] = taken.get(key, 0) + 1
                chosen.append(int(i))
                if len(chosen) == query.limit:
                    break
        return chosen

    def _score_words(self, postings: Sequence[_Postings], weights: dict[str, float]) -> Floats:
        """BM25 of every living passage, in the order of `_ids`."""
        scores = np.zeros(len(self._ids), dtype=np.float32)
        for segment, alive, held in zip(self.words, self.alive, postings, strict=True):
            if not held:
                continue
            local = np.zeros(len(segment), dtype=np.float32)
            for term, (rows, counts) in held.items():
                local[rows] += weights[term] * impacts(counts, segment.lengths[rows], self._averages)
            hit = np.flatnonzero((local > 0) & alive)
            scores[np.searchsorted(self._ids, segment.passage_ids[hit])] = local[hit]
        return scores

    def _score_vectors(self, query: Query) -> Floats:
        """Cosine of every living passage, in the order of `_ids`; NaN where there is no vector."""
        scores = np.full(len(self._ids), np.nan, dtype=np.float32)
        if query.vector is None or query.mode == Mode.LEXICAL:
            return scores
        for segment, alive in zip(self.vectors, self.vectors_alive, strict=True):
            found = segment.vectors @ query.vector
            place = np.searchsorted(self._ids, segment.passage_ids)
            valid = alive & (place < len(self._ids))
            valid[valid] = self._ids[place[valid]] == segment.passage_ids[valid]
            scores[place[valid]] = found[valid]
        return scores

    def _explain(self, passage_id: int, postings: Sequence[_Postings], weights: dict[str, float]) -> dict[str, float]:
        """What each term gave a passage, by the code that scored it."""
        for segment, alive, held in zip(self.words, self.alive, postings, strict=True):
            places = np.flatnonzero((segment.passage_ids == passage_id) & alive)
            if len(places):
                given: dict[str, float] = {}
                lengths = segment.lengths[places[:1]]
                for term, (rows, counts) in held.items():
                    at = np.searchsorted(rows, places[0])
                    if at < len(rows) and rows[at] == places[0]:
                        given[term] = float(weights[term] * impacts(counts[at : at + 1], lengths, self._averages)[0])
                return given
        return {}


def _top(scores: Floats, allowed: npt.NDArray[np.bool_] | None, count: int) -> npt.NDArray[np.int64]:
    """Rows with the `count` highest scores; rows without a score (NaN or 0) and rows not allowed never come."""
    usable = np.where(np.isnan(scores) | (scores == 0), -np.inf, scores)
    if allowed is not None:
        usable = np.where(allowed, usable, -np.inf)
    if count < len(usable):
        rows = np.argpartition(-usable, count)[:count]
    else:
        rows = np.arange(len(usable))
    return rows[usable[rows] > -np.inf]


def _union(a: npt.NDArray[np.int64], b: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
    return np.union1d(a, b).astype(np.int64)
