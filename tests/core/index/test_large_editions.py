"""Large editions release mapped memory, and verify without mapping."""

from __future__ import annotations

import threading
from pathlib import Path

import numpy as np
import pytest

from fontanel.core.index import (
    Mode,
    Query,
    Snapshot,
    VectorSegment,
    WordsEntry,
    WordsSegment,
    merge_vectors,
    write_vectors,
    write_words,
)
from fontanel.core.index.files import SegmentDamaged, let_go, verify

COUNT, WIDTH = 3000, 32


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """A words segment and one of vectors in cells, of the same passages."""
    folder = tmp_path_factory.mktemp("segments")
    random = np.random.default_rng(8)
    empty = np.zeros(0, dtype=np.int32)
    entries = [
        WordsEntry(
            n + 1,
            n // 10,
            ([], [], [f"word{w}" for w in random.integers(0, 200, 30)], []),
            (empty, empty, np.arange(30, dtype=np.int32), empty),
        )
        for n in range(COUNT)
    ]
    vectors = random.normal(size=(COUNT, WIDTH)).astype(np.float32)
    vectors /= np.linalg.norm(vectors, axis=1, keepdims=True)
    cut = merge_vectors(
        [VectorSegment(np.arange(1, COUNT + 1), vectors)], [np.ones(COUNT, dtype=bool)], least=1000
    )
    write_words(folder / "words", WordsSegment.build(entries))
    write_vectors(folder / "vectors", cut)
    return folder / "words", folder / "vectors"


def found(snapshot: Snapshot, number: int) -> list[tuple[int, float]]:
    vector = np.zeros(WIDTH, dtype=np.float32)
    vector[number % WIDTH] = 1.0
    query = Query(f"word{number} word{number + 7} word{number * 3 % 200}", vector, Mode.HYBRID, 10)
    return [(hit.passage_id, hit.score) for hit in snapshot.search(query)]


def test_searches_find_the_same_after_what_they_mapped_was_given_back(
    files: tuple[Path, Path],
) -> None:
    words, vectors = WordsSegment.open(files[0]), VectorSegment.open(files[1])
    snapshot = Snapshot([words], [vectors])
    before = [found(snapshot, number) for number in range(40)]
    words.let_go()
    vectors.let_go()
    assert [found(snapshot, number) for number in range(40)] == before


@pytest.mark.slow
def test_searches_that_are_under_way_meanwhile_find_the_same(files: tuple[Path, Path]) -> None:
    words, vectors = WordsSegment.open(files[0]), VectorSegment.open(files[1])
    snapshot = Snapshot([words], [vectors])
    expected = [found(snapshot, number) for number in range(40)]
    done = threading.Event()

    def give_back() -> None:
        while not done.is_set():
            words.let_go()
            vectors.let_go()

    thread = threading.Thread(target=give_back)
    thread.start()
    try:
        for _ in range(3):
            assert [found(snapshot, number) for number in range(40)] == expected
    finally:
        done.set()
        thread.join()


def test_arrays_that_are_no_file_s_have_nothing_to_give_back() -> None:
    array = np.arange(10)
    let_go(array)
    let_go(array[2:5])
    assert array.tolist() == list(range(10))


@pytest.mark.parametrize("which", [0, 1])
def test_a_whole_file_verifies_and_one_with_a_changed_byte_does_not(
    files: tuple[Path, Path], which: int, tmp_path: Path
) -> None:
    verify(files[which])
    data = bytearray(files[which].read_bytes())
    for place in (len(data) // 3, len(data) // 2, len(data) - 200):
        changed = bytearray(data)
        changed[place] ^= 1
        copy = tmp_path / f"changed-{place}"
        copy.write_bytes(changed)
        with pytest.raises(SegmentDamaged, match="has changed"):
            verify(copy)


def test_a_file_that_is_cut_short_is_told_from_a_changed_one(
    files: tuple[Path, Path], tmp_path: Path
) -> None:
    copy = tmp_path / "short"
    copy.write_bytes(files[1].read_bytes()[:-5000])
    with pytest.raises(SegmentDamaged, match="cut short"):
        verify(copy)
