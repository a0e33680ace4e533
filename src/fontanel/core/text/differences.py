"""The changes between two texts, by blocks and by the words of changed ones.

Matching is that of Ratcliff and Obershelp (1988), as Python's difflib implements it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher
from typing import Literal

ChangeKind = Literal["same", "removed", "added", "changed"]

_WORDS = re.compile(r"\s+|\w+|[^\w\s]")
#: Longer pieces are shown side by side without marked words.
_LONGEST = 4000
#: Pieces of a changed stretch that are paired one by one.
_MAX_PAIRED = 200


@dataclass(frozen=True, slots=True)
class Change:
    """A run of pieces: the same in both, only before, only after, or changed.

    `before` and `after` are the texts of the pieces; `before_marks` and `after_marks` are the
    differing characters [start, end) of a single changed piece.
    """

    kind: ChangeKind
    before: tuple[str, ...] = ()
    after: tuple[str, ...] = ()
    before_marks: tuple[tuple[int, int], ...] = ()
    after_marks: tuple[tuple[int, int], ...] = ()


def differences(before: Sequence[str], after: Sequence[str]) -> list[Change]:
    """Return the changes between two lists of paragraphs, rows or lines."""
    out: list[Change] = []
    matcher = SequenceMatcher(None, before, after, autojunk=False)
    for tag, a, b, c, d in matcher.get_opcodes():
        if tag == "equal":
            out.append(Change("same", tuple(before[a:b]), tuple(after[c:d])))
        elif tag == "delete":
            out += [Change("removed", (piece,)) for piece in before[a:b]]
        elif tag == "insert":
            out += [Change("added", (), (piece,)) for piece in after[c:d]]
        else:
            out += _paired(before[a:b], after[c:d])
    return out


def _paired(before: Sequence[str], after: Sequence[str]) -> Iterator[Change]:
    """Pair the pieces of a replaced run with what they became, as far as possible."""
    start = 0
    for piece in before[:_MAX_PAIRED]:
        result = next(
            (i for i in range(start, min(len(after), start + 5)) if _alike(piece, after[i])), None
        )
        if result is None:
            yield Change("removed", (piece,))
            continue
        for skipped in after[start:result]:
            yield Change("added", (), (skipped,))
        yield _changed(piece, after[result])
        start = result + 1
    for piece in before[_MAX_PAIRED:]:
        yield Change("removed", (piece,))
    for piece in after[start:]:
        yield Change("added", (), (piece,))


def _alike(one: str, other: str) -> bool:
    if max(len(one), len(other)) > _LONGEST:
        return one[:200] == other[:200]
    matcher = SequenceMatcher(None, _WORDS.findall(one), _WORDS.findall(other), autojunk=False)
    return matcher.quick_ratio() > 0.5 and matcher.ratio() > 0.5


def _changed(before: str, after: str) -> Change:
    if max(len(before), len(after)) > _LONGEST:
        return Change("changed", (before,), (after,))
    olds, news = _WORDS.findall(before), _WORDS.findall(after)
    old_marks: list[tuple[int, int]] = []
    new_marks: list[tuple[int, int]] = []
    old_at = new_at = 0
    for tag, a, b, c, d in SequenceMatcher(None, olds, news, autojunk=False).get_opcodes():
        old_size, new_size = sum(map(len, olds[a:b])), sum(map(len, news[c:d]))
        if tag != "equal":
            if old_size:
                old_marks.append((old_at, old_at + old_size))
            if new_size:
                new_marks.append((new_at, new_at + new_size))
        old_at, new_at = old_at + old_size, new_at + new_size
    return Change("changed", (before,), (after,), tuple(old_marks), tuple(new_marks))
