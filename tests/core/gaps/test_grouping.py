"""Questions are grouped by meaning, one after the other, the same way in any batches."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.arrays import Floats
from fontanel.core.gaps import Grouping, Unanswered, central

POINTS = st.lists(st.integers(0, 2**16), min_size=1, max_size=40)


def unit(seed: int) -> Floats:
    vector = np.random.default_rng(seed % 12).normal(size=16) * 3
    vector += np.random.default_rng(seed).normal(size=16)
    return np.asarray(vector / np.linalg.norm(vector), dtype=np.float32)


def asked(seeds: list[int]) -> list[Unanswered]:
    return [Unanswered(unit(seed), (f"p{seed % 12}", f"p{seed % 5}")) for seed in seeds]


@given(POINTS)
def test_groups_are_numbered_in_the_order_of_their_first_question(seeds: list[int]) -> None:
    groups = Grouping().add(asked(seeds))
    assert len(groups) == len(seeds)
    assert list(dict.fromkeys(groups)) == list(range(max(groups) + 1))


@given(POINTS, st.integers(0, 40))
def test_batches_and_restarts_change_nothing(seeds: list[int], cut: int) -> None:
    questions = asked(seeds)
    whole = Grouping().add(questions)
    parts = Grouping()
    first = parts.add(questions[:cut])
    assert first + parts.add(questions[cut:]) == whole
    loaded = Grouping(questions[:cut], whole[:cut])
    assert loaded.add(questions[cut:]) == whole[cut:]
    assert len(loaded) == len(seeds)


@given(st.integers(0, 2**16), st.integers(2, 9))
def test_equal_questions_are_one_group(seed: int, count: int) -> None:
    assert set(Grouping().add(asked([seed] * count))) == {0}


def test_what_searches_found_tells_questions_apart() -> None:
    one = np.array([1, 0, 0], dtype=np.float32)
    other = np.array([0.55, np.sqrt(1 - 0.55**2), 0], dtype=np.float32)
    same, different = ("a", "b"), ("c", "d")
    assert Grouping().add([Unanswered(one, same), Unanswered(other, same)]) == [0, 0]
    assert Grouping().add([Unanswered(one, same), Unanswered(other, different)]) == [0, 1]


def test_opposite_questions_are_apart() -> None:
    vector = unit(1)
    assert Grouping().add([Unanswered(vector), Unanswered(-vector)]) == [0, 1]


def test_the_central_question_is_the_one_between_the_others() -> None:
    angles = np.array([0.0, 0.5, 1.2])
    vectors = np.stack([np.cos(angles), np.sin(angles)], axis=1).astype(np.float32)
    assert central(vectors) == 1
