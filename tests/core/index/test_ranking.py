"""Hybrid search against a naive implementation: weights, windows, filters, limits."""

from __future__ import annotations

from dataclasses import dataclass, field
from random import Random

import numpy as np
import numpy.typing as npt
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fontanel.core.index import (
    Mode,
    Query,
    Snapshot,
    VectorSegment,
    WordsEntry,
    WordsSegment,
    merge_vectors,
    merge_words,
)
from fontanel.core.index.match import document_means
from tests.core.index.test_index import VOCABULARY, naive_bm25

WIDTH = 8
Floats = npt.NDArray[np.float32]


@dataclass
class Shelf:
    """Passages with their vectors and windows, in segments; some of them removed."""

    entries: list[WordsEntry]
    vectors: dict[int, Floats]
    windows: dict[int, Floats]
    dead: set[int]
    parts: int
    keys: dict[int, int] = field(default_factory=dict)

    @property
    def living(self) -> list[WordsEntry]:
        return [entry for entry in self.entries if entry.passage_id not in self.dead]

    def beside(self, key: int) -> int:
        """Count the living passages at a passage's position and up to two on either side."""
        alive = {entry.passage_id for entry in self.living}
        return sum(
            self.keys[other] == self.keys[key]
            for other in range(key - 2, key + 3)
            if other in alive
        )

    def snapshot(self, merged: bool = False) -> Snapshot:
        words = [
            WordsSegment.build(self.entries[i :: self.parts])
            for i in range(self.parts)
            if self.entries[i :: self.parts]
        ]
        removed = np.array(sorted(self.dead), dtype=np.int64)
        vectors = [
            VectorSegment(np.array([key]), vector[None, :]) for key, vector in self.vectors.items()
        ]
        ids = np.repeat(
            np.array(list(self.windows), dtype=np.int64),
            [len(result) for result in self.windows.values()],
        )
        windows = (
            [VectorSegment(ids, np.concatenate(list(self.windows.values())))]
            if self.windows
            else []
        )
        if not merged:
            return Snapshot(words, vectors, removed, windows)
        alive = [~np.isin(segment.passage_ids, removed) for segment in words]
        left = [
            [key not in self.dead for key in segment.passage_ids.tolist()] for segment in vectors
        ]
        whole = (
            [merge_vectors(vectors, [np.array(mask) for mask in left])]
            if any(map(any, left))
            else []
        )
        return Snapshot([merge_words(words, alive)], whole, None, windows)

    def ranked(
        self, terms: list[str], asked: Floats, boosts: dict[int, float], weight: float
    ) -> list[tuple[float, int]]:
        """(score, passage) of every living passage that words or meaning find, best first."""
        lexical = naive_bm25(self.living, terms) if self.living else {}
        near: dict[int, float] = {}
        for entry in self.living:
            key = entry.passage_id
            if key in self.vectors:
                near[key] = float(self.vectors[key] @ asked)
                if key in self.windows:
                    near[key] = (near[key] + float((self.windows[key] @ asked).max())) / 2
        result = lexical.keys() | near.keys()
        most = max(lexical.values(), default=0.0)
        best = max(max((near[key] for key in result & near.keys()), default=0.0), 1e-9)
        blended: dict[int, float] = {}
        for key in result:
            words = lexical.get(key, 0.0) / max(most, 1e-9)
            meaning = min(max(near[key] / best, 0.0), 1.0) if key in near else words
            blended[key] = (
                weight * words + (1 - weight) * meaning if result & near.keys() else words
            )
        scores = []
        for key in result:
            own = sorted(
                (blended[other] for other in result if self.keys[other] == self.keys[key]),
                reverse=True,
            )
            speaking = min(
                3,
                max(
                    len(own),
                    *(self.beside(other) for other in result if self.keys[other] == self.keys[key]),
                ),
            )
            own = (own + [min(blended.values())] * 3)[:speaking]
            score = 0.625 * blended[key] + 0.375 * sum(own) / speaking
            scores.append((score * boosts.get(self.keys[key], 1.0), key))
        return sorted(scores, key=lambda item: (-item[0], item[1]))


def unit(random: np.random.Generator, count: int) -> Floats:
    result = random.normal(size=(count, WIDTH)).astype(np.float32)
    unit_vectors: Floats = result / np.linalg.norm(result, axis=1, keepdims=True)
    return unit_vectors


@st.composite
def shelves(draw: st.DrawFn) -> Shelf:
    random = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    count = draw(st.integers(2, 30))
    keys = {n + 1: 100 + draw(st.integers(0, 4)) for n in range(count)}
    entries = [
        WordsEntry(
            n + 1,
            keys[n + 1],
            ([], [], draw(st.lists(st.sampled_from(VOCABULARY), min_size=1, max_size=10)), []),
        )
        for n in range(count)
    ]
    embedded = draw(st.sets(st.integers(1, count)))
    windowed = draw(st.sets(st.sampled_from(sorted(embedded)))) if embedded else set()
    return Shelf(
        entries,
        {key: unit(random, 1)[0] for key in sorted(embedded)},
        {key: unit(random, 3) for key in sorted(windowed)},
        draw(st.sets(st.integers(1, count), max_size=count // 2)),
        draw(st.integers(1, 3)),
        keys,
    )


def asked_with(seed: int) -> Floats:
    vector: Floats = unit(np.random.default_rng(seed), 1)[0]
    return vector


def assert_ranked(found: list[tuple[float, int]], expected: list[tuple[float, int]]) -> None:
    assert [score for score, _ in found] == pytest.approx(
        [score for score, _ in expected], abs=2e-4
    )
    # Where two scores are the same in all digits that count, either may come first.
    close = {
        key for (score, key) in expected for (other, _) in expected if abs(score - other) < 4e-4
    }
    for (_, one), (_, other) in zip(found, expected, strict=True):
        assert one == other or one in close


terms = st.lists(st.sampled_from(VOCABULARY), min_size=1, max_size=4, unique=True)


@settings(max_examples=80, deadline=None)
@given(shelves(), terms, st.integers(0, 1000), st.sampled_from([0.2, 0.35, 0.8]), st.booleans())
def test_the_order_is_that_of_a_naive_search(
    shelf: Shelf, words: list[str], seed: int, weight: float, merged: bool
) -> None:
    query = Query(
        " ".join(words),
        asked_with(seed),
        Mode.HYBRID,
        50,
        per_document=50,
        keyword_weight=weight,
        fold=False,
    )
    results = [(hit.score, hit.passage_id) for hit in shelf.snapshot(merged).search(query)]
    assert_ranked(results, shelf.ranked(words, asked_with(seed), {}, weight))


@settings(max_examples=50, deadline=None)
@given(
    shelves(),
    terms,
    st.integers(0, 1000),
    st.dictionaries(st.integers(100, 104), st.sampled_from([0.5, 1.5, 3.0])),
)
def test_boosts_multiply_what_a_document_s_passages_score(
    shelf: Shelf, words: list[str], seed: int, boosts: dict[int, float]
) -> None:
    query = Query(
        " ".join(words),
        asked_with(seed),
        Mode.HYBRID,
        50,
        per_document=50,
        boosts=boosts,
        keyword_weight=0.35,
        fold=False,
    )
    result = shelf.snapshot().search(query)
    assert_ranked(
        [(hit.score, hit.passage_id) for hit in result],
        shelf.ranked(words, asked_with(seed), boosts, 0.35),
    )
    for hit in result:
        assert hit.boost == boosts.get(hit.document_key, 1.0)
        assert hit.score == pytest.approx(
            (hit.keyword_part + hit.semantic_part + hit.document_part) * hit.boost, abs=1e-5
        )


@settings(max_examples=50, deadline=None)
@given(shelves(), terms, st.integers(0, 1000), st.integers(1, 3), st.integers(1, 10))
def test_no_document_shows_more_than_its_share_and_the_rest_moves_up(
    shelf: Shelf, words: list[str], seed: int, cap: int, limit: int
) -> None:
    snapshot = shelf.snapshot()
    whole = snapshot.search(
        Query(" ".join(words), asked_with(seed), Mode.HYBRID, 100, per_document=100, fold=False)
    )
    some = snapshot.search(
        Query(" ".join(words), asked_with(seed), Mode.HYBRID, limit, per_document=cap, fold=False)
    )
    expected: list[int] = []
    taken: dict[int, int] = {}
    for hit in whole:
        if taken.get(hit.document_key, 0) < cap and len(expected) < limit:
            taken[hit.document_key] = taken.get(hit.document_key, 0) + 1
            expected.append(hit.passage_id)
    assert [hit.passage_id for hit in some] == expected


@settings(max_examples=50, deadline=None)
@given(shelves(), terms, st.integers(0, 1000), st.sets(st.integers(100, 104)))
def test_a_filter_leaves_the_passages_of_its_documents_in_their_order(
    shelf: Shelf, words: list[str], seed: int, documents: set[int]
) -> None:
    query = Query(
        " ".join(words),
        asked_with(seed),
        Mode.HYBRID,
        50,
        documents=np.array(sorted(documents), dtype=np.int64),
        per_document=50,
        fold=False,
    )
    result = shelf.snapshot().search(query)
    assert {hit.document_key for hit in result} <= documents
    assert {hit.passage_id for hit in result} <= {entry.passage_id for entry in shelf.living}
    scores = [hit.score for hit in result]
    assert scores == sorted(scores, reverse=True)
    for hit in result:
        assert 0 <= hit.match <= 1
        assert 0 <= hit.coverage <= 1


@settings(max_examples=150, deadline=None)
@given(
    st.lists(st.tuples(st.integers(0, 12), st.floats(0, 1, width=32)), min_size=1, max_size=120),
    st.randoms(use_true_random=False),
)
def test_a_document_speaks_by_its_three_best_passages_down_to_the_fiftieth(
    found: list[tuple[int, float]], random: Random
) -> None:
    sizes = {document: random.randint(1, 5) for document in range(13)}
    scores = sorted((score for _, score in found), reverse=True)
    floor = scores[min(len(scores), 50) - 1]
    expected = {}
    for document in {document for document, _ in found}:
        own = sorted((max(score, floor) for key, score in found if key == document), reverse=True)
        speaking = min(3, max(len(own), sizes[document]))
        expected[document] = sum((own + [floor] * 3)[:speaking]) / speaking
    random.shuffle(found)
    documents = np.array([document for document, _ in found], dtype=np.int64)
    existing = np.array([sizes[document] for document in documents.tolist()], dtype=np.int64)
    means = document_means(
        np.array([score for _, score in found], dtype=np.float32), documents, existing
    )
    assert means == pytest.approx([expected[document] for document, _ in found], abs=1e-5)
    if len(found) >= 50:
        # What is proposed beyond the fiftieth changes nothing.
        more = np.array([*(score for _, score in found), *[scores[-1]] * 7], dtype=np.float32)
        others = np.concatenate([documents, np.arange(20, 27)])
        again = document_means(more, others, np.concatenate([existing, np.ones(7, dtype=np.int64)]))
        assert again[: len(found)] == pytest.approx(means)
