"""Pictures inside documents: which ones matter, and how descriptions of them become text."""

from __future__ import annotations

import hashlib
import struct
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace

from fontanel.core.reading.model import (
    PICTURE_HERE,
    Block,
    Picture,
    Place,
    Reading,
)

#: Why a document without text has failed.
ONLY_PICTURES = (
    "No text was found in the file, only pictures. A model can describe them: choose one in the"
    " settings of the knowledge base."
)
#: What is smaller than this in pixels, or longer for its width, is an ornament.
_MIN_SIDE, _MIN_AREA, _MAX_ASPECT = 64, 20_000, 8.0
#: A picture that a document has more often is a logo or a rule.
_MAX_REPEATS = 3


@dataclass(frozen=True, slots=True)
class PictureText:
    """What a model says about a picture: what it shows, and the text on it."""

    model: str
    description: str
    text: str = ""


def sized_picture(sha256: str, width: int, height: int) -> Picture | None:
    """Return a picture of a size in pixels; None for an ornament."""
    small = min(width, height) < _MIN_SIDE or width * height < _MIN_AREA
    if small or max(width, height) > _MAX_ASPECT * min(width, height):
        return None
    return Picture(sha256, width, height)


def raw_hash(data: bytes, width: int, height: int) -> str:
    """Return the hash of samples without a header of their own."""
    return hashlib.sha256(struct.pack(">II", width, height) + data).hexdigest()


def with_pictures(reading: Reading, texts: Mapping[str, PictureText]) -> Reading:
    """Return a reading with the descriptions of its pictures, each after its caption.

    Places of pictures without a caption or a description are removed, as are pictures that repeat:
    those are logos.

    Args:
        texts: Descriptions by the hash of the picture.
    """
    if not reading.pictures:
        return reading
    counts = Counter(block.picture for block in reading.blocks if block.picture is not None)
    repeated = {sha for sha, count in counts.items() if count > _MAX_REPEATS}
    rewriter = _Rewriter(reading)
    for block in reading.blocks:
        known = block.picture if block.picture not in repeated else None
        if block.picture is None or reading.text[block.start : block.end] != PICTURE_HERE:
            rewriter.copy(replace(block, picture=known))
        if known is not None and known in texts:
            rewriter.describe(block, texts[known])
    return rewriter.result(tuple(one for one in reading.pictures if one.sha256 not in repeated))


class _Rewriter:
    """Writes a reading's text again, block by block, and moves places along with it."""

    def __init__(self, reading: Reading) -> None:
        self._reading = reading
        self._parts: list[str] = []
        self._blocks: list[Block] = []
        self._length = 0
        #: Old start and end of what was copied, and by how much it moved.
        self._moves: list[tuple[int, int, int]] = []
        #: Old range of a place that was left out, and the new one of its description.
        self._instead: dict[tuple[int, int], tuple[int, int]] = {}

    def copy(self, block: Block) -> None:
        start, _ = self._add(self._reading.text[block.start : block.end], block)
        self._moves.append((block.start, block.end, start - block.start))

    def describe(self, block: Block, text: PictureText) -> None:
        words = " ".join(text.description.split())
        if text.text:
            words += f" Text on it: {' '.join(text.text.split())}"
        about = replace(block, kind="figure", described_by=text.model, confidence=None)
        self._instead[block.start, block.end] = self._add(words, about)

    def _add(self, text: str, block: Block) -> tuple[int, int]:
        start = self._length + 2 if self._parts else 0
        self._length = start + len(text)
        self._parts.append(text)
        self._blocks.append(replace(block, start=start, end=self._length))
        return start, self._length

    def result(self, pictures: tuple[Picture, ...]) -> Reading:
        return replace(
            self._reading,
            text="\n\n".join(self._parts),
            blocks=tuple(self._blocks),
            places=self._places(),
            pictures=pictures,
        )

    def _places(self) -> tuple[Place, ...]:
        """Return the places of what is left; descriptions are where their pictures are."""
        places: list[Place] = []
        moves = iter(self._moves)
        move = next(moves, None)
        for place in self._reading.places:
            while move is not None and move[1] <= place.start:
                move = next(moves, None)
            if move is not None and move[0] <= place.start < move[1]:
                places.append(place._replace(start=place.start + move[2], end=place.end + move[2]))
            described = self._instead.get((place.start, place.end))
            if described is not None:
                places.append(place._replace(start=described[0], end=described[1]))
        return tuple(places)
