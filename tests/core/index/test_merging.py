"""Merged segments equal those built at once, without what was removed."""

from __future__ import annotations

from collections.abc import Sequence

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
)
from fontanel.core.index.lexical import rows_with_phrase
from fontanel.core.index.postings import (
    FIELDS,
    build_postings,
    letters,
    rounded_averages,
    term_hash,
)

WORDS = ["berth", "gale", "tug", "buoy", "lock", "quay", "tide", "fee"]
#: For each passage the words of its body, and whether it is still there.
COLLECTIONS = st.lists(
    st.tuples(st.lists(st.sampled_from(WORDS), max_size=12), st.booleans()), min_size=1, max_size=24
)


def entry(number: int, body: Sequence[str]) -> WordsEntry:
    return WordsEntry(number, number % 5, (["rules"], [], list(body), []))


def parts(
    rows: Sequence[tuple[list[str], bool]], count: int
) -> tuple[list[WordsSegment], list[np.ndarray]]:
    """Deal passages out to segments, some of them dead, with a gap in their ids."""
    made = [(entry(3 * n + 1, body), alive) for n, (body, alive) in enumerate(rows)]
    dealt = [made[start::count] for start in range(count) if made[start::count]]
    segments = [WordsSegment.build([item for item, _ in group]) for group in dealt]
    return segments, [np.array([alive for _, alive in group]) for group in dealt]


@settings(max_examples=120)
@given(COLLECTIONS, st.integers(1, 5))
def test_a_merge_is_what_building_at_once_gives(
    rows: list[tuple[list[str], bool]], count: int
) -> None:
    segments, alive = parts(rows, count)
    merged = merge_words(segments, alive)
    left = [entry(3 * n + 1, body) for n, (body, there) in enumerate(rows) if there]
    whole = WordsSegment.build(left)
    for name, expected in whole.arrays().items():
        assert np.array_equal(merged.arrays()[name], expected), name
    assert np.array_equal(merged.totals, whole.totals)


@settings(max_examples=60)
@given(COLLECTIONS, st.integers(1, 4), st.integers(1, 4))
def test_merging_in_two_steps_is_merging_in_one(
    rows: list[tuple[list[str], bool]], count: int, first: int
) -> None:
    segments, alive = parts(rows, count)
    once = merge_words(segments, alive)
    first = min(first, len(segments))
    half = merge_words(segments[:first], alive[:first])
    rest = segments[first:]
    twice = merge_words([half, *rest], [np.ones(len(half), dtype=bool), *alive[first:]])
    for name, expected in once.arrays().items():
        assert np.array_equal(twice.arrays()[name], expected), name


@settings(max_examples=80)
@given(COLLECTIONS, st.lists(st.sampled_from(WORDS), min_size=1, max_size=3))
def test_a_phrase_is_found_where_its_words_follow_each_other(
    rows: list[tuple[list[str], bool]], phrase: list[str]
) -> None:
    segments, alive = parts(rows, 3)
    merged = merge_words(segments, alive)
    bodies = {3 * n + 1: body for n, (body, there) in enumerate(rows) if there}
    mask = rows_with_phrase(merged, phrase, list(range(len(phrase))))
    results = set(merged.passage_ids[mask].tolist())
    size = len(phrase)
    assert results == {
        number
        for number, body in bodies.items()
        if any(body[at : at + size] == phrase for at in range(len(body)))
    }


@given(st.lists(st.sampled_from(WORDS), min_size=1, max_size=3, unique=True), COLLECTIONS)
def test_what_a_snapshot_finds_does_not_depend_on_its_segments(
    query: list[str], rows: list[tuple[list[str], bool]]
) -> None:
    segments, alive = parts(rows, 4)
    removed = np.array(
        [3 * n + 1 for n, (_, there) in enumerate(rows) if not there], dtype=np.int64
    )
    apart, together = Snapshot(segments, dead=removed), Snapshot([merge_words(segments, alive)])
    asked = Query(" ".join(query), mode=Mode.LEXICAL, limit=30, per_document=30)
    one, other = apart.search(asked), together.search(asked)
    assert [hit.passage_id for hit in other] == [hit.passage_id for hit in one]
    assert [hit.score for hit in other] == pytest.approx([hit.score for hit in one], rel=1e-4)
    assert [sorted(hit.also) for hit in one] == [sorted(hit.also) for hit in other]


@given(st.lists(st.booleans(), min_size=1, max_size=20), st.booleans())
def test_merged_vectors_keep_their_passages(alive: list[bool], packed: bool) -> None:
    random = np.random.default_rng(len(alive))
    vectors = random.normal(size=(len(alive), 8)).astype(np.float32)
    vectors /= np.linalg.norm(vectors, axis=1, keepdims=True)
    ids = np.arange(len(alive), dtype=np.int64)[::-1] * 2 + 1
    make = VectorSegment.packed if packed else VectorSegment
    merged = merge_vectors([make(ids, vectors)], [np.array(alive)])
    assert merged.passage_ids.tolist() == sorted(
        int(i) for i, there in zip(ids, alive, strict=True) if there
    )
    assert (merged.scales is not None) == packed
    for row, passage in enumerate(merged.passage_ids):
        original = vectors[int(np.flatnonzero(ids == passage)[0])]
        assert merged.floats(slice(row, row + 1))[0] == pytest.approx(
            original, abs=0.02 if packed else 1e-7
        )


@given(
    st.lists(st.integers(0, 10_000), min_size=len(FIELDS), max_size=len(FIELDS)),
    st.integers(1, 1000),
)
def test_rounded_averages_are_near_and_stay_when_a_document_comes(
    totals: list[int], passages: int
) -> None:
    sums = np.array(totals, dtype=np.float64)
    rounded = rounded_averages(sums, passages)
    for total, mean in zip(totals, rounded, strict=True):
        if total:
            assert 12 / 14 <= mean / (total / passages) <= 14 / 12
        else:
            assert mean == 1.0


def test_terms_of_one_hash_are_told_apart_by_their_letters() -> None:
    segment = WordsSegment(build_postings([entry(1, WORDS)]), {"totals": [0.0] * 4})
    assert [segment.index_of(word) >= 0 for word in WORDS] == [True] * len(WORDS)
    assert segment.index_of("zeppelin") == -1
    assert len({term_hash(word.encode()) for word in WORDS}) == len(WORDS)
    assert letters(b"berth") != letters(b"birth")
    assert (letters(b"berth") ^ letters(b"berht")).bit_count() <= 6


def test_the_beginning_of_a_word_gives_its_words_in_order() -> None:
    segment = WordsSegment.build([entry(1, ["berth", "berths", "bert", "ber", "buoy"])])
    assert segment.terms_from("bert", 10) == ["bert", "berth", "berths"]
    assert segment.terms_from("bert", 2) == ["bert", "berth"]
    assert segment.terms_from("zz", 10) == []
