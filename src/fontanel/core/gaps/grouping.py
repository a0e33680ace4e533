"""Group questions by meaning, one after the other.

Average linkage (Sokal and Michener 1958), incremental: a question joins the group whose members
are most like it on average, if they are like it enough, and otherwise begins one. A group that
exists is never split or merged, so its identity is stable.

The likeness is the cosine of the questions' embeddings, and how far their searches found the same
passages.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fontanel.core.arrays import Floats

#: The weight of passages that both searches found, and the likeness from which questions are
#: grouped. `bench/tuning/calibrate_gaps.py` measures both.
_FOUND_WEIGHT, _ALIKE = 0.2, 0.62
#: Passages of a search that are compared, best first.
MAX_FOUND = 10
#: Questions that are compared at a time.
_CHUNK = 256


@dataclass(frozen=True, slots=True)
class Unanswered:
    """A question: its unit vector, and the passages that its search found, best first."""

    vector: Floats
    found: tuple[str, ...] = ()


class Grouping:
    """Groups of questions, numbered from 0.

    Args:
        questions: Those that are grouped already.
        groups: The group of each.
    """

    def __init__(self, questions: Sequence[Unanswered] = (), groups: Sequence[int] = ()) -> None:
        #: With room for more questions than there are; the same for the groups.
        self._room: Floats = np.zeros((0, 0), dtype=np.float32)
        self._groups = np.zeros(0, dtype=np.int64)
        self._found: list[dict[str, float]] = []
        #: The questions that found a passage.
        self._by_passage: dict[str, list[int]] = {}
        self._count = 0
        if questions:
            self._make_room(np.stack([question.vector for question in questions]))
        for question, group in zip(questions, groups, strict=True):
            self._count = max(self._count, group + 1)
            self._remember(question, group)

    def __len__(self) -> int:
        return len(self._found)

    def add(self, questions: Sequence[Unanswered]) -> list[int]:
        """Group questions, in their order; return the group of each."""
        results: list[int] = []
        for start in range(0, len(questions), _CHUNK):
            results += self._add(questions[start : start + _CHUNK])
        return results

    def _add(self, questions: Sequence[Unanswered]) -> list[int]:
        vectors = np.stack([question.vector for question in questions])
        before = len(self)
        self._make_room(vectors)
        likenesses = self._room[: before + len(questions)] @ vectors.T
        results: list[int] = []
        for number, question in enumerate(questions):
            likeness = likenesses[: before + number, number]
            for other, share in self._found_too(question).items():
                likeness[other] += _FOUND_WEIGHT * share
            group = self._nearest(likeness)
            results.append(group)
            self._remember(question, group)
        return results

    def _nearest(self, likeness: Floats) -> int:
        """Return the group of a question, perhaps a new one."""
        if len(likeness):
            groups = self._groups[: len(self)]
            sums = np.bincount(groups, weights=likeness, minlength=self._count)
            means = sums / np.maximum(np.bincount(groups, minlength=self._count), 1)
            best = int(means.argmax())
            if means[best] >= _ALIKE:
                return best
        self._count += 1
        return self._count - 1

    def _found_too(self, question: Unanswered) -> dict[int, float]:
        """Return the cosine of what searches found, for questions that found the same."""
        results: dict[int, float] = {}
        for passage, weight in _weights(question.found).items():
            for other in self._by_passage.get(passage, ()):
                results[other] = results.get(other, 0.0) + weight * self._found[other][passage]
        return results

    def _make_room(self, vectors: Floats) -> None:
        """Store vectors behind the questions that there are."""
        count, needed = len(self), len(self) + len(vectors)
        if needed > len(self._room):
            room = np.zeros((needed + needed // 4, vectors.shape[1]), dtype=np.float32)
            groups = np.zeros(len(room), dtype=np.int64)
            if count:
                room[:count], groups[:count] = self._room[:count], self._groups[:count]
            self._room, self._groups = room, groups
        self._room[count:needed] = vectors

    def _remember(self, question: Unanswered, group: int) -> None:
        number = len(self._found)
        self._found.append(_weights(question.found))
        for passage in self._found[-1]:
            self._by_passage.setdefault(passage, []).append(number)
        self._groups[number] = group


def _weights(found: Sequence[str]) -> dict[str, float]:
    """Return the passages of a search by the reciprocal of their rank, as a unit vector."""
    weights = {passage: 1 / rank for rank, passage in enumerate(found[:MAX_FOUND], 1)}
    norm = float(np.sqrt(sum(weight * weight for weight in weights.values()))) or 1.0
    return {passage: weight / norm for passage, weight in weights.items()}


def central(vectors: Floats) -> int:
    """Return which of some unit vectors is nearest to all others."""
    return int((vectors @ vectors.sum(axis=0)).argmax())
