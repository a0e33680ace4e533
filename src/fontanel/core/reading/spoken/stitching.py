"""Joins the transcripts of overlapping parts of a recording."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from fontanel.core.reading.spoken.cues import Cue

#: A word that the part before ended with is not said again by the next.
_MAX_REPEATED = 12


@dataclass(frozen=True, slots=True)
class Part:
    """The transcript of [start, end) seconds of a recording; times of cues are of the whole."""

    start: float
    end: float
    cues: Sequence[Cue]


def stitch(parts: Sequence[Part]) -> list[Cue]:
    """Return the cues of all parts, each once.

    Two parts share some seconds, in the middle of which the first gives way to the second: a cue
    near the edge of its part may be cut off, and has its whole in the other.

    Args:
        parts: In their order, each beginning before the one before it ends.
    """
    limits = [(before.end + after.start) / 2 for before, after in pairwise(parts)]
    results: list[Cue] = []
    for part, limit in zip(parts, [*limits, float("inf")], strict=True):
        # Speakers may overlap within a part, but nothing comes again from the one before.
        heard = results[-1] if results else Cue(0.0, 0.0, "")
        for cue in part.cues:
            middle = (cue.start + cue.end) / 2
            if middle >= limit or middle < heard.end or not cue.text:
                continue
            text = _without_repetition(heard.text, cue.text) if cue.start < heard.end else cue.text
            results += [replace(cue, text=text)] if text else []
    return results


def _without_repetition(before: str, text: str) -> str:
    """Return a text without the words at its beginning that the text before ends with."""
    ends, words = [word.lower() for word in before.split()], text.split()
    begins = [word.lower() for word in words]
    for count in range(min(len(ends), len(words), _MAX_REPEATED), 0, -1):
        if ends[-count:] == begins[:count]:
            return " ".join(words[count:])
    return text
