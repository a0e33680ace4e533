"""What reading a document yielded, as the API returns it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict

from fontanel.core.passages.splitting import Passage
from fontanel.core.reading import Block
from fontanel.schemas import BlockOut, CutOut
from fontanel.service.out.answers import locator_out


def blocks_out(blocks: Sequence[Block]) -> list[BlockOut]:
    """Return blocks."""
    return [BlockOut(**asdict(block)) for block in blocks]


def cuts_out(passages: Sequence[Passage]) -> list[CutOut]:
    """Return passages that are not stored."""
    return [
        CutOut(
            ordinal=number,
            start=passage.start,
            end=passage.end,
            text=passage.text,
            context=passage.context,
            tokens=passage.tokens,
            locator=locator_out(passage.locator),
        )
        for number, passage in enumerate(passages)
    ]
