"""What repeats at the edges of the pages of one source: navigation, banners, small print.

A page alone does not show that "Download the ebook" is no content of its own; its neighbours do.
"""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from fontanel.core.reading.model import Block, Reading

#: Blocks at each end of a page that are compared, and the characters of the longest.
_EDGE, _LONGEST = 8, 600
#: A block repeats if it is at the edges of this many pages, and of this share of all.
_MIN_PAGES, _MIN_SHARE = 4, 0.3
_BYTES = 8


@dataclass(frozen=True, slots=True)
class Repeated:
    """The blocks that repeat on the pages of one collection.

    `owners` has, for each block's fingerprint, the key of the page that keeps it: what is on all
    pages is found once.
    """

    pages: int
    owners: Mapping[str, int]

    def on(self, page: int, fingerprints: Collection[str]) -> frozenset[str]:
        """Return which of a page's blocks are left out there."""
        return frozenset(mark for mark in fingerprints if self.owners.get(mark, page) != page)


def find_repeated(pages: Mapping[int, Sequence[str]]) -> Repeated:
    """Return the blocks that repeat.

    Args:
        pages: The fingerprints of the blocks at the edges of each page, by the pages' keys.
    """
    counts = Counter(mark for marks in pages.values() for mark in set(marks))
    needed = max(_MIN_PAGES, _MIN_SHARE * len(pages))
    owners: dict[str, int] = {}
    for page in sorted(pages):
        for mark in pages[page]:
            if counts[mark] >= needed:
                owners.setdefault(mark, page)
    return Repeated(len(pages), owners)


def edge_fingerprints(reading: Reading) -> list[str]:
    """Return the fingerprints of the short blocks at the beginning and the end of a page."""
    blocks = [*_edge(reading.blocks), *_edge(reading.blocks[::-1])]
    return list(dict.fromkeys(_fingerprint(reading, block) for block in blocks))


def leave_out(reading: Reading, repeated: Collection[str]) -> Reading:
    """Return a reading whose repeated blocks are marked as left out.

    Only unbroken runs of them at the beginning and the end are: what repeats between paragraphs, as
    the headings of a reference do, is content. A page of which nothing would remain is left as it
    is.
    """
    if not repeated:
        return reading
    first = sum(1 for _ in _run(reading, reading.blocks, repeated))
    last = sum(1 for _ in _run(reading, reading.blocks[::-1], repeated))
    end = len(reading.blocks) - last
    if first + last == 0 or first >= end:
        return reading
    blocks = tuple(
        replace(block, left_out=not first <= number < end)
        for number, block in enumerate(reading.blocks)
    )
    return replace(reading, blocks=blocks)


def _edge(blocks: Sequence[Block]) -> Iterator[Block]:
    """Yield the blocks at one end, up to the first long one."""
    for block in blocks[:_EDGE]:
        if block.end - block.start > _LONGEST:
            return
        yield block


def _run(reading: Reading, blocks: Sequence[Block], repeated: Collection[str]) -> Iterator[Block]:
    for block in _edge(blocks):
        if _fingerprint(reading, block) not in repeated:
            return
        yield block


def _fingerprint(reading: Reading, block: Block) -> str:
    text = " ".join(reading.text[block.start : block.end].casefold().split())
    content = f"{block.kind}\0{text}".encode("utf-8", "replace")
    return hashlib.blake2b(content, digest_size=_BYTES).hexdigest()
