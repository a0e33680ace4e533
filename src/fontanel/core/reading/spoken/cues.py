"""Timed pieces of speech, and how they become sentences of a reading."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from fontanel.core.reading.model import ReadingBuilder, collapse

_SENTENCE_END = re.compile(r"[.!?…][\"'’”)]?$")
#: Seconds after which a run of cues is cut although no sentence ends.
_MAX_SECONDS = 40.0


@dataclass(frozen=True, slots=True)
class Cue:
    """What is said from `start` to `end`, in seconds; the speaker is empty if not known."""

    start: float
    end: float
    text: str
    speaker: str = ""


@dataclass(frozen=True, slots=True)
class Chapter:
    """A part of a recording that has a title and begins at a second."""

    start: float
    title: str


def add_cues(
    builder: ReadingBuilder, cues: Iterable[Cue], chapters: Sequence[Chapter] = ()
) -> None:
    """Add cues as sentences, with speakers where they change, below their chapters."""
    run: list[str] = []
    since, speaker = 0.0, ""
    ahead = sorted(chapters, key=lambda chapter: chapter.start)

    def end_run() -> None:
        builder.cue(" ".join(run), since)
        run.clear()

    for cue in cues:
        words = collapse(cue.text)
        if not words:
            continue
        while ahead and ahead[0].start <= (cue.start + cue.end) / 2:
            end_run()
            speaker = ""
            builder.heading(ahead[0].title, 1, seconds=round(ahead.pop(0).start, 3))
        changes = bool(cue.speaker) and cue.speaker != speaker
        if run and (changes or _SENTENCE_END.search(run[-1]) or cue.start - since > _MAX_SECONDS):
            end_run()
        if not run:
            since = cue.start
        if changes:
            speaker = cue.speaker
            words = f"{speaker}: {words}"
        # Rolling captions say a line twice.
        if not run or run[-1] != words:
            run.append(words)
    end_run()
