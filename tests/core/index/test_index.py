"""The index against a naive BM25: filters, deletions, merges, damage."""

from __future__ import annotations

import math
import os
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

import numpy as np
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
    write_vectors,
    write_words,
)
from fontanel.core.index.files import SegmentDamaged, open_arrays, verify, write_arrays
from fontanel.core.index.match import DOCUMENT_WEIGHT
from fontanel.core.index.postings import FIELD_B, FIELD_WEIGHTS, K1, rounded_averages

VOCABULARY = [f"w{n}" for n in range(30)]
entries_strategy = st.lists(
    st.tuples(*[st.lists(st.sampled_from(VOCABULARY), max_size=n) for n in (3, 4, 15, 6)]),
    min_size=1,
    max_size=25,
)


def entries(rows: Sequence[tuple[Sequence[str], ...]], first: int = 1) -> list[WordsEntry]:
    return [WordsEntry(first + i, 100 + i % 4, tuple(row)) for i, row in enumerate(rows)]


def naive_bm25(rows: list[WordsEntry], query: list[str]) -> dict[int, float]:
    """Field-weighted BM25 written as in the paper, passage by passage."""
    totals = np.array(
        [sum(len(row.terms[f]) for row in rows) for f in range(len(FIELD_B))], dtype=np.float64
    )
    averages = [float(mean) for mean in rounded_averages(totals, len(rows))]
    scores = {}
    for row in rows:
        total = 0.0
        for term in query:
            matching = sum(1 for other in rows if any(term in field for field in other.terms))
            frequency = 0.0
            for f in range(len(FIELD_B)):
                norm = (
                    1
                    - float(FIELD_B[f])
                    + float(FIELD_B[f]) * len(row.terms[f]) / max(averages[f], 1e-6)
                )
                frequency += float(FIELD_WEIGHTS[f]) * Counter(row.terms[f])[term] / norm
            if frequency:
                idf = math.log1p((len(rows) - matching + 0.5) / (matching + 0.5))
                total += idf * frequency * (K1 + 1) / (frequency + K1)
        if total:
            scores[row.passage_id] = total
    return scores


def lexical(snapshot: Snapshot, query: list[str]) -> dict[int, float]:
    result = snapshot.search(
        Query(" ".join(query), mode=Mode.LEXICAL, limit=1000, per_document=1000, fold=False)
    )
    return {hit.passage_id: hit.lexical for hit in result}


def assert_same(found: dict[int, float], expected: dict[int, float]) -> None:
    assert found.keys() == expected.keys()
    for key, score in expected.items():
        assert found[key] == pytest.approx(score, rel=1e-4)


query_strategy = st.lists(st.sampled_from(VOCABULARY), min_size=1, max_size=4, unique=True)


@given(entries_strategy, query_strategy)
def test_lexical_scores_are_those_of_a_naive_bm25(
    rows: list[tuple[list[str], ...]], query: list[str]
) -> None:
    made = entries(rows)
    assert_same(lexical(Snapshot([WordsSegment.build(made)]), query), naive_bm25(made, query))


@given(entries_strategy, query_strategy, st.integers(1, 5), st.data())
def test_segments_and_deletions_change_nothing_but_what_is_gone(
    rows: list[tuple[list[str], ...]], query: list[str], parts: int, data: st.DataObject
) -> None:
    made = entries(rows)
    segments = [WordsSegment.build(made[i::parts]) for i in range(parts) if made[i::parts]]
    dead = data.draw(st.sets(st.sampled_from([entry.passage_id for entry in made])))
    snapshot = Snapshot(segments, dead=np.array(sorted(dead), dtype=np.int64))
    left = [entry for entry in made if entry.passage_id not in dead]
    expected = naive_bm25(left, query) if left else {}
    assert_same(lexical(snapshot, query), expected)
    merged = merge_words(
        snapshot.words, [~np.isin(segment.passage_ids, list(dead)) for segment in snapshot.words]
    )
    assert_same(lexical(Snapshot([merged]), query), expected)
    assert len(merged) == len(left)


@settings(max_examples=30)
@given(st.integers(1, 60), st.integers(0, 2**32 - 1), st.integers(1, 10))
def test_vector_search_is_exact(count: int, seed: int, limit: int) -> None:
    random = np.random.default_rng(seed)
    vectors = random.normal(size=(count, 8)).astype(np.float32)
    vectors /= np.linalg.norm(vectors, axis=1, keepdims=True)
    made = entries([(["a"], [], ["b"], [])] * count)
    snapshot = Snapshot(
        [WordsSegment.build(made)], [VectorSegment(np.arange(1, count + 1), vectors)]
    )
    result = snapshot.search(
        Query("", vectors[0], Mode.VECTOR, limit, per_document=count, fold=False)
    )
    expected = np.sort(vectors @ vectors[0])[::-1][:limit]
    assert [hit.similarity for hit in result] == pytest.approx(expected.tolist(), abs=1e-5)


def small() -> Snapshot:
    made = [
        WordsEntry(1, 10, (["storm"], ["wind"], ["wind", "limit", "berth"], [])),
        WordsEntry(2, 10, (["storm"], ["crane"], ["crane", "wind"], [])),
        WordsEntry(3, 11, (["ticket"], ["fare"], ["fare", "adult"], [])),
        WordsEntry(4, 11, (["ticket"], ["berth"], ["berth", "cabin", "wind"], [])),
    ]
    vectors = np.eye(4, dtype=np.float32)
    return Snapshot([WordsSegment.build(made)], [VectorSegment(np.array([1, 2, 3]), vectors[:3])])


def test_a_filter_keeps_to_its_documents() -> None:
    result = small().search(
        Query("wind berth", np.eye(4, dtype=np.float32)[0], documents=np.array([11]))
    )
    assert {hit.document_key for hit in result} == {11}


def test_a_document_gives_no_more_than_its_share() -> None:
    result = small().search(Query("wind", mode=Mode.LEXICAL, per_document=1))
    assert sorted(hit.document_key for hit in result) == [10, 11]


def test_a_passage_without_vector_is_found_by_words_in_a_blend() -> None:
    results = {
        hit.passage_id: hit
        for hit in small().search(Query("cabin", np.eye(4, dtype=np.float32)[2]))
    }
    assert results[4].similarity is None
    assert results[4].keyword_part + results[4].semantic_part == pytest.approx(
        1.0 - DOCUMENT_WEIGHT
    )
    assert results[3].similarity == pytest.approx(1.0)


def test_explanations_add_up_to_the_score() -> None:
    for hit in small().search(Query("wind limit berth", mode=Mode.LEXICAL)):
        assert sum(hit.terms.values()) == pytest.approx(hit.lexical, rel=1e-4)


def test_matches_lie_between_nought_and_one_and_follow_the_evidence() -> None:
    result = small().search(Query("wind limit berth", np.eye(4, dtype=np.float32)[0]))
    assert all(0 <= hit.match <= 1 for hit in result)
    assert result[0].passage_id == 1
    assert result[0].match == max(hit.match for hit in result)


def test_a_word_that_nobody_has_lowers_the_coverage() -> None:
    plain = small().search(Query("wind limit", mode=Mode.LEXICAL))[0]
    stranger = small().search(Query("wind limit zeppelin", mode=Mode.LEXICAL))[0]
    assert stranger.coverage < plain.coverage


def test_an_empty_snapshot_finds_nothing() -> None:
    assert Snapshot().search(Query("wind")) == []


def test_segment_files_come_back_as_they_were(tmp_path: Path) -> None:
    snapshot = small()
    write_words(tmp_path / "words", snapshot.words[0])
    write_vectors(tmp_path / "vectors", snapshot.vectors[0])
    again = Snapshot(
        [WordsSegment.open(tmp_path / "words")], [VectorSegment.open(tmp_path / "vectors")]
    )
    query = Query("wind berth", np.eye(4, dtype=np.float32)[1])
    assert again.search(query) == snapshot.search(query)
    verify(tmp_path / "words")
    assert not list(tmp_path.glob("*.part"))


@pytest.mark.parametrize(("numbers", "descriptors"), [(1_000, 0), (100_000, 1)])
def test_only_large_files_take_a_descriptor(tmp_path: Path, numbers: int, descriptors: int) -> None:
    path = tmp_path / "segment"
    write_arrays(path, {"a": np.arange(numbers)}, {"kind": "test"})
    before = set(os.listdir("/proc/self/fd"))
    arrays, about = open_arrays(path)
    opened = [
        name
        for name in set(os.listdir("/proc/self/fd")) - before
        if os.path.realpath(f"/proc/self/fd/{name}") == str(path)
    ]
    assert len(opened) == descriptors
    assert arrays["a"].tolist() == list(range(numbers))
    assert about == {"kind": "test"}


@pytest.mark.parametrize("keep", [0, 5, 40, 300])
def test_a_file_cut_short_is_damaged(tmp_path: Path, keep: int) -> None:
    path = tmp_path / "segment"
    write_arrays(path, {"a": np.arange(100)}, {})
    path.write_bytes(path.read_bytes()[:keep])
    with pytest.raises(SegmentDamaged):
        open_arrays(path)


def test_a_changed_byte_is_noticed(tmp_path: Path) -> None:
    path = tmp_path / "segment"
    write_arrays(path, {"a": np.arange(100)}, {})
    data = bytearray(path.read_bytes())
    data[-70] ^= 1
    path.write_bytes(bytes(data))
    with pytest.raises(SegmentDamaged):
        verify(path)


def test_merged_vectors_leave_the_dead_out() -> None:
    segments = small().vectors
    merged = merge_vectors(segments, [np.array([True, False, True])])
    assert merged.passage_ids.tolist() == [1, 3]
