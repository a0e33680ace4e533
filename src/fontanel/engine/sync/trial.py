"""Trial listings of a source, before it is connected."""

from __future__ import annotations

import time
from collections import Counter
from dataclasses import dataclass

from fontanel.sources import Listed, Skipped
from fontanel.sources import Source as OpenSource

#: The maximum items, and seconds, of a preview.
_TRIAL_ITEMS, _TRIAL_SECONDS, _SAMPLE = 2000, 15.0, 20


#: Seconds after which a preview that waits for a server is cancelled.
TRIAL_LIMIT = 20.0


@dataclass(frozen=True, slots=True)
class Trial:
    """The preview of a source.

    How many items it has, a sample, and what is skipped and why.

    `complete` is False when the preview ended before the listing did.
    """

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
