"""A snapshot: the segments that one search sees, whatever is written meanwhile."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from fontanel.core.arrays import Floats, Ids, Mask, Positions
from fontanel.core.index.choosing import choose
from fontanel.core.index.lexical import best_rows, field_scores, rows_with, term_scores, with_phrase
from fontanel.core.index.match import (
    LEXICAL_SHARE,
    SPEAKING,
    blend,
    calibrated_match,
    document_means,
)
from fontanel.core.index.operators import Operators, parse
from fontanel.core.index.postings import FIELDS, K1, idf, rounded_averages
from fontanel.core.index.query import Candidate, Mode, Query, SearchResult
from fontanel.core.index.scores import Scores, candidate
from fontanel.core.index.segments import ABSENT, VectorSegment, WordsSegment
from fontanel.core.index.spelling import PENALTY, corrections
from fontanel.core.text.analysis import analyser_of

#: Words that begin with a prefix and are searched for.
_MAX_EXPANSIONS = 50


@dataclass(frozen=True, slots=True)
class _QueryTerms:
    """A question's weighted terms, and the rows allowed in each segment (None: all)."""

    weights: dict[str, float]
    usable: list[Mask | None]
    corrected: dict[str, list[str]]


class Snapshot:
    """Searches a fixed set of segments.

    Positions are numbered across all keyword segments, in their order.

    Args:
        dead: Ids of passages that were removed since their segments were written.
        windows: Segments of sentence windows.
    """

    def __init__(
        self,
        words: Sequence[WordsSegment] = (),
        vectors: Sequence[VectorSegment] = (),
        dead: Ids | None = None,
        windows: Sequence[VectorSegment] = (),
    ) -> None:
        self.words = tuple(words)
        self.vectors = tuple(vectors)
        self.windows = tuple(windows)
        self.dead = np.sort(dead) if dead is not None else np.zeros(0, dtype=np.int64)
        self._living = [segment.living(self.dead) for segment in self.words]
        self._bases = np.concatenate(
            [[0], np.cumsum([len(segment) for segment in self.words])]
        ).astype(np.int64)
        removed = sum(len(mask) - int(mask.sum()) for mask in self._living if mask is not None)
        self.passages = int(self._bases[-1]) - removed
        totals = (
            np.sum([segment.totals for segment in self.words], axis=0)
            if self.words
            else np.zeros(len(FIELDS))
        )
        for segment, mask in zip(self.words, self._living, strict=True):
            if mask is not None:
                totals = totals - segment.lengths[~mask].sum(axis=0)
        #: The mean lengths of fields, rounded, that impacts rest on.
        self.averages = rounded_averages(totals, self.passages)
        languages = frozenset().union(*(segment.languages for segment in self.words)) or frozenset(
            {"en"}
        )
        self._analysers = [
            analyser_of(language)
            for language in sorted(languages, key=lambda code: (code != "en", code))
        ]

    @cached_property
    def _rows_of_vectors(self) -> list[npt.NDArray[np.int32]]:
        """Return the rows of the passages of each segment's vectors, or -1."""
        if len(self.words) == 1 and self._living[0] is None:
            # As the segments keep them: of a large edition they are megabytes.
            return [vectors.rows_in(self.words[0]) for vectors in (*self.vectors, *self.windows)]
        out: list[npt.NDArray[np.int32]] = []
        for vectors in (*self.vectors, *self.windows):
            rows = np.full(len(vectors), -1, dtype=np.int32)
            for base, words, mask in zip(self._bases, self.words, self._living, strict=False):
                places = vectors.rows_in(words)
                there = places >= 0
                if mask is not None:
                    there &= mask[places.clip(min=0)]
                rows[there] = places[there] + np.int32(base)
            out.append(rows)
        return out

    @cached_property
    def _vectors_of_rows(self) -> list[npt.NDArray[np.int32]]:
        """For each vector segment, the vector of each row, or -1."""
        out = []
        for rows in self._rows_of_vectors[: len(self.vectors)]:
            back = np.full(int(self._bases[-1]), -1, dtype=np.int32)
            stored = np.flatnonzero(rows >= 0)
            back[rows[stored]] = stored
            out.append(back)
        return out

    @property
    def recall(self) -> float | None:
        """Return the lowest recall of the cells, None if all vectors are compared."""
        return min(
            (s.cells.recall for s in (*self.vectors, *self.windows) if s.cells is not None),
            default=None,
        )

    # What a question asks for

    def query_terms(self, text: str) -> list[str]:
        """Return the distinct index terms of a question, in each language of the segments."""
        return list(
            dict.fromkeys(term for analyser in self._analysers for term in analyser.terms(text))
        )

    def _as_written(self, text: str) -> dict[str, str]:
        """Return the word of a text that each term is of."""
        return {
            term.text: text[term.start : term.end]
            for analyser in self._analysers[:1]
            for term in analyser.spans(text)
        }

    def idf(self, term: str) -> float:
        """Return the inverse document frequency of a term among living passages."""
        return idf(self.passages, self._matching([term]))

    def _matching(self, terms: Sequence[str]) -> int:
        """Return how many living passages contain any of the terms."""
        count = 0
        for segment, mask in zip(self.words, self._living, strict=True):
            indices = [index for term in terms if (index := segment.index_of(term)) != ABSENT]
            if len(indices) == 1:
                rows = segment.rows_of(indices[0])
                count += len(rows) if mask is None else int(mask[rows].sum())
            elif indices:
                stored = rows_with(segment, terms, every=False)
                count += int((stored if mask is None else stored & mask).sum())
        return count

    def _query_terms(self, query: Query) -> _QueryTerms:
        asked = parse(query.text) if query.operators else Operators(query.text)
        matching = {term: self._matching([term]) for term in self.query_terms(asked.words)}
        weights = {term: idf(self.passages, count) for term, count in matching.items()}
        corrected: dict[str, list[str]] = {}
        unknown = [term for term, count in matching.items() if not count]
        written = self._as_written(asked.words) if unknown else {}
        for term in unknown:
            if near := corrections(term, written.get(term, term), self.words):
                corrected[term] = near
                for other in near:
                    weights.setdefault(other, PENALTY * min(self.idf(other), weights[term]))
        groups: list[list[str]] = []
        for prefix in asked.prefixes:
            begun = {
                t
                for segment in self.words
                for t in segment.terms_from(prefix.lower(), _MAX_EXPANSIONS)
            }
            whole = idf(self.passages, self._matching(sorted(begun)))
            weights.update((term, whole) for term in begun if term not in weights)
            groups.append(sorted(begun))
        usable = list(self._living)
        documents = None if query.documents is None else np.sort(query.documents)
        for number, segment in enumerate(self.words):
            mask = usable[number]
            for allowed in self._masks(segment, asked, groups, documents, query.without):
                mask = allowed if mask is None else mask & allowed
            usable[number] = mask
        return _QueryTerms(weights, usable, corrected)

    def _masks(
        self,
        segment: WordsSegment,
        asked: Operators,
        groups: Sequence[Sequence[str]],
        documents: Ids | None,
        without: Ids | None,
    ) -> list[Mask]:
        masks = [] if documents is None else [np.isin(segment.document_keys, documents)]
        if without is not None and len(without):
            masks.append(np.isin(segment.document_keys, without, invert=True))
        masks += [
            with_phrase(segment, phrase, self._analysers)
            for phrase in (*asked.phrases, *asked.required)
        ]
        masks += [
            ~with_phrase(segment, phrase, self._analysers)
            for phrase in (*asked.excluded_phrases, *asked.excluded)
        ]
        masks += [rows_with(segment, group, every=False) for group in groups]
        return masks

    # Searching

    def search(self, query: Query) -> list[Candidate]:
        """Return up to `limit` passages, best first, up to `per_document` of one document."""
        return self.find(query).candidates

    def find(self, query: Query) -> SearchResult:
        """Search as `search` does, and return how the question was interpreted too."""
        if not self.passages:
            return SearchResult([], {}, {}, 0)
        requested = self._query_terms(query)
        weights = requested.weights if query.mode != Mode.VECTOR else {}
        semantic = query.vector is not None and query.mode != Mode.LEXICAL
        depth = max(query.limit * 10, 100)
        if not semantic and not query.boosts:
            # Terms are added in the order of the results, so that hidden results change nothing.
            whole = not query.fold and not query.join and query.per_document >= query.limit
            shallow = query.limit if whole else 2 * query.limit
            result = self._ranked(
                query, requested, weights, [self._best_by_words(weights, requested.usable, shallow)]
            )
            if len(result.candidates) == query.limit or result.scored < shallow:
                return result
        proposed = [self._best_by_words(weights, requested.usable, depth)]
        if semantic:
            proposed += self._best_by_meaning(query, requested.usable, depth)
        return self._ranked(query, requested, weights, proposed)

    def _ranked(
        self,
        query: Query,
        asked: _QueryTerms,
        weights: Mapping[str, float],
        proposed: Sequence[Positions],
    ) -> SearchResult:
        """Score all candidate rows in full, and choose the ones to show."""
        rows = (
            np.sort(proposed[0])
            if len(proposed) == 1
            else np.unique(np.concatenate(proposed)).astype(np.int64)
        )
        if not len(rows):
            return SearchResult([], asked.weights, asked.corrected, 0)
        term_scores = self._term_scores(rows, weights)
        scores = self._score(rows, query, asked, weights, term_scores.sum(axis=1))
        order = np.lexsort((scores.ids, -scores.scores)).tolist()
        sketches = self._gather(rows, "sketches").tolist() if query.fold else []
        columns = scores.columns()
        candidates = []
        for shown in choose(query, order, scores.ids, scores.keys, sketches):
            row = term_scores[shown.index].tolist()
            terms = {term: score for term, score in zip(weights, row, strict=True) if score}
            fields = self._fields(int(rows[shown.index]), terms, weights) if query.explain else {}
            candidates.append(candidate(columns, shown, terms, fields))
        return SearchResult(candidates, asked.weights, asked.corrected, len(rows))

    def _score(
        self,
        rows: Positions,
        query: Query,
        asked: _QueryTerms,
        weights: Mapping[str, float],
        lexical: Floats,
    ) -> Scores:
        semantic = query.vector is not None and query.mode != Mode.LEXICAL
        nothing = np.full(len(rows), np.nan, dtype=np.float32)
        similarity, window = self._similarity(rows, query) if semantic else (nothing, nothing)
        known = [term for term in weights if term not in asked.corrected]
        best = sum(weights[term] for term in known) * (K1 + 1.0) * LEXICAL_SHARE
        coverage = np.zeros(len(rows), dtype=np.float32)
        if best:
            coverage = np.minimum(lexical / best, 1.0).astype(np.float32)
        keyword_part, semantic_part = blend(lexical, similarity, query.mode, query.keyword_weight)
        ids, keys = self._gather(rows, "passage_ids"), self._gather(rows, "document_keys")
        document_part = np.zeros_like(keyword_part)
        if semantic and query.mode == Mode.HYBRID:
            document_part = query.document_weight * document_means(
                keyword_part + semantic_part, keys, self._sizes(ids, keys)
            )
            keyword_part = (1.0 - query.document_weight) * keyword_part
            semantic_part = (1.0 - query.document_weight) * semantic_part
        boost = np.ones(len(keys), dtype=np.float32)
        if query.boosts:
            boost = np.array([query.boosts.get(int(key), 1.0) for key in keys], dtype=np.float32)
        return Scores(
            ids=ids,
            keys=keys,
            scores=(keyword_part + semantic_part + document_part) * boost,
            matches=calibrated_match(coverage, similarity, query.mode),
            lexical=lexical,
            coverage=coverage,
            similarity=similarity,
            window=window,
            keyword_part=keyword_part,
            semantic_part=semantic_part,
            document_part=document_part,
            boost=boost,
        )

    def _sizes(self, ids: Ids, keys: Ids) -> Ids:
        """Return the number of living passages of each row's document, up to `SPEAKING`.

        The passages of a document are adjacent.
        """
        steps = np.array([step for step in range(1 - SPEAKING, SPEAKING) if step])
        near, owners = (ids[:, None] + steps).ravel(), np.repeat(keys, len(steps))
        adjacent = np.zeros(len(near), dtype=bool)
        for segment, living in zip(self.words, self._living, strict=True):
            places = segment.locate(near)
            there = np.flatnonzero(places >= 0)
            there = there if living is None else there[living[places[there]]]
            adjacent[there] |= segment.document_keys[places[there]] == owners[there]
        sizes: Ids = 1 + adjacent.reshape(len(ids), -1).sum(axis=1)
        return sizes

    def _best_by_words(
        self, weights: Mapping[str, float], usable: Sequence[Mask | None], depth: int
    ) -> Positions:
        rows: list[Positions] = []
        scores: list[Floats] = []
        floor = 0.0
        if weights:
            for number in np.argsort([-len(segment) for segment in self.words], kind="stable"):
                result, values = best_rows(
                    self.words[number], weights, self.averages, depth, usable[number], floor
                )
                rows.append(result + self._bases[number])
                scores.append(values)
                if sum(map(len, rows)) > depth:
                    floor = -float(np.partition(-np.concatenate(scores), depth - 1)[depth - 1])
        if not rows:
            return np.zeros(0, dtype=np.int64)
        joined, values = np.concatenate(rows), np.concatenate(scores)
        return joined[(values >= floor) & (values > 0)]

    def _best_by_meaning(
        self, query: Query, usable: Sequence[Mask | None], depth: int
    ) -> list[Positions]:
        """Return the rows with the nearest vectors, per vector and window segment."""
        assert query.vector is not None
        limited = any(mask is not None for mask in usable)
        mask = (
            np.concatenate(
                [
                    np.ones(len(w), dtype=bool) if m is None else m
                    for w, m in zip(self.words, usable, strict=True)
                ]
            )
            if limited
            else None
        )
        out: list[Positions] = []
        segments = (*self.vectors, *self.windows)
        for number, (segment, rows) in enumerate(zip(segments, self._rows_of_vectors, strict=True)):
            # Several windows of one passage may be near.
            deep = depth if number < len(self.vectors) else depth * 3
            requested = rows >= 0
            if mask is not None:
                requested = requested & mask[rows.clip(min=0)]
            # A small number of allowed rows is compared exhaustively; cells would miss some.
            few = mask is not None and int(requested.sum()) < len(segment) // 4
            if few:
                places = np.flatnonzero(requested)
                cosines = segment.cosines(query.vector, places)
            elif segment.cells is not None:
                spans = [
                    np.arange(segment.cells.starts[cell], segment.cells.starts[cell + 1])
                    for cell in segment.cells.nearest(query.vector)
                ]
                parts = [
                    segment.cosines(query.vector, slice(int(s[0]), int(s[-1]) + 1))
                    for s in spans
                    if len(s)
                ]
                places, cosines = np.concatenate(spans), np.concatenate(parts)
                cosines = np.where(requested[places], cosines, np.float32(-2.0))
            else:
                places, cosines = np.arange(len(segment)), segment.cosines(query.vector)
                if not requested.all():
                    cosines = np.where(requested, cosines, np.float32(-2.0))
            if len(places) > deep:
                top = np.argpartition(cosines, len(cosines) - deep)[-deep:]
                places, cosines = places[top], cosines[top]
            out.append(rows[places[cosines > -2.0]].astype(np.int64))
        return out

    def _similarity(self, rows: Positions, query: Query) -> tuple[Floats, Floats]:
        """Return the similarity of each row, and the cosine of its nearest window.

        Similarity is the mean of the two cosines, or the row's own if it has no windows; NaN
        without a vector.
        """
        assert query.vector is not None
        result = np.full(len(rows), np.nan, dtype=np.float32)
        for segment, back in zip(self.vectors, self._vectors_of_rows, strict=True):
            places = back[rows]
            there = np.flatnonzero(places >= 0)
            if len(there):
                result[there] = query.scale.apply(segment.cosines(query.vector, places[there]))
        window = np.full(len(rows), np.nan, dtype=np.float32)
        ids = self._gather(rows, "passage_ids") if self.windows else np.zeros(0, dtype=np.int64)
        for segment in self.windows:
            cosines = segment.largest_cosines(query.vector, ids)
            window = np.fmax(window, query.scale.apply(cosines))
        return np.where(np.isnan(window), result, (result + window) / np.float32(2.0)), window

    def _term_scores(self, rows: Positions, weights: Mapping[str, float]) -> Floats:
        if len(self.words) == 1:
            return term_scores(self.words[0], rows, weights, self.averages)
        out = np.zeros((len(rows), len(weights)), dtype=np.float32)
        for base, segment in zip(self._bases, self.words, strict=False):
            own = np.flatnonzero((rows >= base) & (rows < base + len(segment)))
            if len(own) and weights:
                out[own] = term_scores(segment, rows[own] - base, weights, self.averages)
        return out

    def _fields(
        self, row: int, terms: Mapping[str, float], weights: Mapping[str, float]
    ) -> dict[str, tuple[float, ...]]:
        number = int(np.searchsorted(self._bases, row, side="right")) - 1
        result = field_scores(
            self.words[number],
            row - int(self._bases[number]),
            {term: weights[term] for term in terms},
            self.averages,
        )
        return {term: tuple(float(value) for value in values) for term, values in result.items()}

    def _gather(self, rows: Positions, name: str) -> npt.NDArray[np.int64]:
        """Values of a column of the words segments, for rows in ascending order."""
        parts = []
        if len(self.words) == 1:
            only: npt.NDArray[np.int64] = getattr(self.words[0], name)[rows]
            return only
        for base, segment in zip(self._bases, self.words, strict=False):
            own = rows[(rows >= base) & (rows < base + len(segment))]
            parts.append(getattr(segment, name)[own - base])
        result: npt.NDArray[np.int64] = np.concatenate(parts)
        return result
