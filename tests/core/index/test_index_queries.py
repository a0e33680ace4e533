"""Operators, spelling, boosts, near-duplicates and partitions of searches."""

from __future__ import annotations

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
    write_vectors,
)
from fontanel.core.index.cells import partition
from fontanel.core.index.lexical import best_rows
from fontanel.core.index.operators import parse
from fontanel.core.index.postings import idf, rounded_averages
from fontanel.core.index.spelling import edit_distance
from fontanel.core.text.analysis import Analyser

ANALYSER = Analyser("en")


def entry(
    number: int, body: str, title: str = "", heading: str = "", document: int | None = None
) -> WordsEntry:
    results = [ANALYSER.positions(text) for text in (title, heading, body, "")]
    return WordsEntry(
        number,
        document or number,
        tuple(terms for terms, _ in results),
        tuple(at for _, at in results),
    )


BODIES = [
    "The outer berth is closed in a north-east gale.",
    "A berth on the outer mole is for tugs; the gale pennant flies there.",
    "Ferries leave from berth 4. Set max_berths=4 in harbour.toml to change it.",
    "The pilot boards at the fairway buoy, and pilotage is compulsory.",
    "The state of the art in dredging is the suction dredger.",
]


def harbour(parts: int = 1) -> Snapshot:
    made = [entry(number, body, title="Rules") for number, body in enumerate(BODIES, 1)]
    return Snapshot([WordsSegment.build(made[i::parts]) for i in range(parts)])


def found(text: str, snapshot: Snapshot | None = None, **more: object) -> list[int]:
    query = Query(text, mode=Mode.LEXICAL, operators=True, **more)  # type: ignore[arg-type]
    return [hit.passage_id for hit in (snapshot or harbour()).search(query)]


@pytest.mark.parametrize("parts", [1, 3])
class TestOperators:
    def test_a_phrase_stands_as_written(self, parts: int) -> None:
        assert found('"outer berth"', harbour(parts)) == [1]
        assert found('"berth outer"', harbour(parts)) == []

    def test_words_that_are_not_indexed_keep_their_place_in_a_phrase(self, parts: int) -> None:
        assert found('"state of the art"', harbour(parts)) == [5]
        assert found('"state art"', harbour(parts)) == []

    def test_a_phrase_does_not_run_over_fields(self, parts: int) -> None:
        assert found('"rules the outer"', harbour(parts)) == []

    def test_words_that_must_or_must_not_be_there(self, parts: int) -> None:
        assert set(found("berth gale", harbour(parts))) == {1, 2, 3}
        assert found("berth +tugs", harbour(parts)) == [2]
        assert set(found("berth -gale", harbour(parts))) == {3}
        assert set(found('berth -"outer mole"', harbour(parts))) == {1, 3}

    def test_the_beginning_of_a_word(self, parts: int) -> None:
        assert found("pilot*", harbour(parts)) == [4]
        assert found("max_b*", harbour(parts)) == [3]
        assert found("zzz*", harbour(parts)) == []

    def test_a_slip_finds_the_word_that_was_meant(self, parts: int) -> None:
        result = harbour(parts).find(Query("pliot boards", mode=Mode.LEXICAL))
        assert result.corrected == {"pliot": ["pilot"]}
        assert result.candidates[0].passage_id == 4

    def test_what_is_known_is_never_corrected(self, parts: int) -> None:
        assert harbour(parts).find(Query("buoy gale", mode=Mode.LEXICAL)).corrected == {}


@pytest.mark.parametrize(
    ("text", "words", "excluded", "prefixes"),
    [
        ("storm -crane", "storm", ("crane",), ()),
        ("git push --force", "git push --force", (), ()),
        ("sort -n numbers", "sort -n numbers", (), ()),
        ("north-east gale", "north-east gale", (), ()),
        ("-crane", "-crane", (), ()),
        ("shared_buf* size", "size", (), ("shared_buf",)),
        ('say "half', 'say "half', (), ()),
    ],
)
def test_a_search_taken_apart(
    text: str, words: str, excluded: tuple[str, ...], prefixes: tuple[str, ...]
) -> None:
    asked = parse(text)
    assert (asked.words, asked.excluded, asked.prefixes) == (words, excluded, prefixes)


@given(st.text(max_size=40))
def test_any_text_can_be_searched_for(text: str) -> None:
    harbour().find(Query(text, operators=True))


@given(st.text("abcd", max_size=8), st.text("abcd", max_size=8))
def test_the_edit_distance_is_a_distance(a: str, b: str) -> None:
    distance = edit_distance(a, b, 20)
    assert distance == edit_distance(b, a, 20)
    assert (distance == 0) == (a == b)
    assert abs(len(a) - len(b)) <= distance <= max(len(a), len(b))
    assert edit_distance(a, b, 1) == min(distance, 2)


VOCABULARY = [f"w{n}" for n in range(40)]


@settings(max_examples=60)
@given(st.integers(0, 2**32 - 1), st.integers(1, 6), st.integers(1, 12), st.booleans())
def test_skipping_loses_none_of_the_best(seed: int, terms: int, count: int, filtered: bool) -> None:
    random = np.random.default_rng(seed)
    # Frequencies as words have them: a few are nearly everywhere, which is when skipping begins.
    weights = 1.0 / np.arange(1, len(VOCABULARY) + 1)
    words = random.choice(VOCABULARY, (300, 12), p=weights / weights.sum())
    made = [WordsEntry(i + 1, i, ([], [], row.tolist(), [])) for i, row in enumerate(words)]
    segment = WordsSegment.build(made)
    averages = rounded_averages(segment.totals, len(segment))
    asked = {}
    for term in random.choice(VOCABULARY, terms, replace=False):
        index = segment.index_of(str(term))
        asked[str(term)] = idf(len(segment), 0 if index < 0 else len(segment.rows_of(index)))
    scores = np.zeros(len(segment))
    for term, weight in asked.items():
        index = segment.index_of(term)
        if index >= 0:
            scores[segment.rows_of(index)] += weight * segment.impacts_of(index, averages)
    usable = random.random(300) < 0.4 if filtered else None
    rows, values = best_rows(segment, asked, averages, count, usable, 0.0)
    requested = scores if usable is None else np.where(usable, scores, 0.0)
    best = np.sort(requested[requested > 0])[::-1][:count]
    assert usable is None or usable[rows].all()
    assert np.sort(values)[::-1][: len(best)] == pytest.approx(best, rel=1e-4)
    assert values == pytest.approx(scores[rows], rel=1e-4)


class TestRanking:
    def test_what_fields_gave_adds_up_to_what_the_term_gave(self) -> None:
        snapshot = Snapshot(
            [
                WordsSegment.build(
                    [entry(1, "storm storm gale", "Storm plan", "Storm"), entry(2, "calm")]
                )
            ]
        )
        (hit,) = snapshot.search(Query("storm gale", mode=Mode.LEXICAL, explain=True))
        for term, score in hit.terms.items():
            assert sum(hit.fields[term]) == pytest.approx(score, rel=1e-4)
        assert hit.keyword_part + hit.semantic_part == pytest.approx(hit.score, rel=1e-5)

    def test_the_same_text_in_many_documents_shows_once(self) -> None:
        notice = (
            "The lock is closed on Monday from six to ten for the yearly inspection of its gates"
            " and sluices."
        )
        made = [entry(n, notice) for n in (1, 2, 3)] + [
            entry(4, "The lock opens at six on all other days of the week.")
        ]
        result = Snapshot([WordsSegment.build(made)]).search(
            Query("lock closed Monday", mode=Mode.LEXICAL)
        )
        assert [hit.passage_id for hit in result] == [1, 4]
        assert sorted(result[0].also) == [(2, 2), (3, 3)]

    def test_texts_that_only_share_words_are_not_folded(self) -> None:
        made = [
            entry(1, "Berth one is four metres deep at low water."),
            entry(2, "Berth two is nine metres deep at low water."),
        ]
        assert (
            len(
                Snapshot([WordsSegment.build(made)]).search(Query("metres deep", mode=Mode.LEXICAL))
            )
            == 2
        )

    def test_passages_that_follow_each_other_are_joined_when_asked_for(self) -> None:
        def part(number: int, key: int, text: str) -> WordsEntry:
            return WordsEntry(number, key, ([], [], text.split(), []))

        made = [
            part(1, 1, "gale warning is hoisted at the mole"),
            part(2, 1, "gale pennant flies until noon"),
            part(3, 1, "gale gale gale closes the port"),
            part(4, 1, "gale over and done with at last"),
            part(5, 2, "gale gale in another document"),
        ]
        snapshot = Snapshot([WordsSegment.build(made)])
        plain = snapshot.search(Query("gale", mode=Mode.LEXICAL, per_document=10))
        assert len(plain) == 5
        assert all(hit.merged == () for hit in plain)
        joined = snapshot.search(Query("gale", mode=Mode.LEXICAL, per_document=10, join=True))
        of_one = [hit for hit in joined if hit.document_key == 1]
        together = sorted([*of_one[0].merged, of_one[0].passage_id])
        assert together == list(range(together[0], together[0] + 3)), (
            "three at most, one after the other"
        )
        everything = [passage for hit in joined for passage in (hit.passage_id, *hit.merged)]
        assert sorted(everything) == [1, 2, 3, 4, 5], "none is lost, none shown twice"
        assert next(hit for hit in joined if hit.document_key == 2).merged == ()

    @given(st.lists(st.integers(1, 4), min_size=1, max_size=30), st.integers(1, 5))
    def test_a_search_no_deeper_than_shown_finds_what_a_deep_one_finds(
        self, counts: list[int], limit: int
    ) -> None:
        made = [
            WordsEntry(n + 1, n % 5, ([], [], ["gale"] * count + [f"w{n}"] * (n % 3), []))
            for n, count in enumerate(counts)
        ]
        snapshot = Snapshot([WordsSegment.build(made)])
        shown = snapshot.search(Query("gale", mode=Mode.LEXICAL, limit=limit, per_document=2))
        deep = snapshot.search(
            Query("gale", mode=Mode.LEXICAL, limit=limit, per_document=2, boosts={99: 2.0})
        )
        assert [hit.passage_id for hit in shown] == [hit.passage_id for hit in deep]

    def test_a_boost_multiplies_a_documents_scores(self) -> None:
        plain = harbour().search(Query("gale", mode=Mode.LEXICAL))
        raised = harbour().search(
            Query("gale", mode=Mode.LEXICAL, boosts={plain[1].document_key: 3.0})
        )
        assert raised[0].passage_id == plain[1].passage_id
        assert raised[0].boost == 3.0

    def test_the_share_of_words_decides_between_words_and_meaning(self) -> None:
        vectors = np.eye(5, dtype=np.float32)
        snapshot = Snapshot(harbour().words, [VectorSegment(np.arange(1, 6), vectors)])
        asked = vectors[4]
        assert snapshot.search(Query("gale pennant", asked, keyword_weight=0.95))[0].passage_id == 2
        assert snapshot.search(Query("gale pennant", asked, keyword_weight=0.05))[0].passage_id == 5


def unit(random: np.random.Generator, count: int, dimensions: int = 16) -> np.ndarray:
    vectors = random.normal(size=(count, dimensions)).astype(np.float32)
    return vectors / np.linalg.norm(vectors, axis=1, keepdims=True)  # type: ignore[no-any-return]


class TestVectors:
    def snapshot(self, segment: VectorSegment, count: int) -> Snapshot:
        made = [WordsEntry(i + 1, i % 7, ([], [], [f"w{i}"], [])) for i in range(count)]
        return Snapshot([WordsSegment.build(made)], [segment])

    def test_bytes_find_nearly_what_floats_find(self) -> None:
        vectors = unit(np.random.default_rng(2), 400)
        packed = VectorSegment.packed(np.arange(1, 401), vectors)
        assert packed.vectors.dtype == np.int8
        assert packed.cosines(vectors[3]) == pytest.approx(vectors @ vectors[3], abs=0.02)
        result = self.snapshot(packed, 400).search(Query("", vectors[3], Mode.VECTOR, 1))
        assert result[0].passage_id == 4

    def test_cells_hold_every_vector_once_and_find_the_nearest(self) -> None:
        random = np.random.default_rng(3)
        centres = unit(random, 20)
        vectors = centres[random.integers(0, 20, 3000)] + 0.15 * random.normal(
            size=(3000, 16)
        ).astype(np.float32)
        vectors /= np.linalg.norm(vectors, axis=1, keepdims=True)
        order, cells = partition(vectors)
        assert sorted(order.tolist()) == list(range(3000))
        assert cells.recall >= 0.98
        merged = merge_vectors(
            [VectorSegment(np.arange(1, 3001), vectors)], [np.ones(3000, dtype=bool)], least=1000
        )
        assert merged.cells is not None
        snapshot = self.snapshot(merged, 3000)
        assert snapshot.recall == merged.cells.recall
        assert self.snapshot(VectorSegment(np.arange(1, 3001), vectors), 3000).recall is None
        nearest = [int(np.argmax(vectors @ vectors[i])) + 1 for i in range(0, 3000, 100)]
        results = [
            snapshot.search(Query("", vectors[i], Mode.VECTOR, 1))[0].passage_id
            for i in range(0, 3000, 100)
        ]
        assert np.mean(np.array(results) == nearest) > 0.95

    def test_a_filter_that_leaves_few_misses_none_of_them(self) -> None:
        vectors = unit(np.random.default_rng(4), 2000)
        merged = merge_vectors(
            [VectorSegment(np.arange(1, 2001), vectors)], [np.ones(2000, dtype=bool)], least=1000
        )
        allowed = np.arange(2000) % 7 == 3
        query = Query(
            "", vectors[0], Mode.VECTOR, 10, documents=np.array([3]), per_document=10, fold=False
        )
        result = self.snapshot(merged, 2000).search(query)
        expected = np.sort((vectors @ vectors[0])[allowed])[::-1][:10]
        assert [hit.similarity for hit in result] == pytest.approx(expected.tolist(), abs=1e-5)

    def test_a_partition_survives_its_file(self, tmp_path: Path) -> None:
        path = tmp_path / "vectors"
        vectors = unit(np.random.default_rng(5), 1500)
        merged = merge_vectors(
            [VectorSegment(np.arange(1, 1501), vectors)], [np.ones(1500, dtype=bool)], least=1000
        )
        write_vectors(path, merged)
        again = VectorSegment.open(path)
        assert again.cells is not None
        assert merged.cells is not None
        assert (again.cells.probes, again.cells.recall) == (
            merged.cells.probes,
            merged.cells.recall,
        )
        assert np.array_equal(again.vectors, merged.vectors)
