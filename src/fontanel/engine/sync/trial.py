"""Trial listings of a source, before it is connected."""

from __future__ import annotations

import time
from collections import Counter
from dataclasses import dataclass

from fontanel.sources import Listed, Skipped
from fontanel.sources import Source as OpenSource

#: A trial listing ends after so many items or seconds.
_TRIAL_ITEMS, _TRIAL_SECONDS, _SAMPLE = 2000, 15.0, 20


#: Seconds after which a trial that still waits for a server is given up.
TRIAL_LIMIT = 20.0


@dataclass(frozen=True, slots=True)
class Trial:
    """What a look at a source showed: how many items would be taken, a sample of them, and what would be skipped and why.
    `complete` is False when the look ended before the listing did."""

    taken: int
    bytes: int | None
    sample: list[Listed]
    skipped: dict[str, int]
    skipped_sample: list[Skipped]
    complete: bool
    seconds: float


def try_source(opened: OpenSource) -> Trial:
    """List until enough is seen. Raises SourceUnavailable."""
    began = time.monotonic()
    sample: list[Listed] = []
    skipped: Counter[str] = Counter()
    skipped_sample: list[Skipped] = []
    taken = size = 0
    sized = True
    complete = True
    for item in opened.items(lambda _: None):
        if isinstance(item, Skipped):
            skipped[item.reason] += 1
            if len(skipped_sample) < _SAMPLE:
                skipped_sample.append(item)
        else:
            taken += 1
            sized = sized and item.size is not None
            size += item.size or 0
            if len(sample) < _SAMPLE:
                sample.append(item)
        if taken + skipped.total() >= _TRIAL_ITEMS or time.monotonic() - began > _TRIAL_SECONDS:
            complete = False
            break
    seconds = time.monotonic() - began
    return Trial(
        taken,
        size if sized else None,
        sample,
        dict(skipped.most_common(20)),
        skipped_sample,
        complete,
        seconds,
    )
