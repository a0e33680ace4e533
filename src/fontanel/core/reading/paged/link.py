"""A link on a page."""

from __future__ import annotations

from typing import NamedTuple


class Link(NamedTuple):
    """A box on a page, in shares of its size, with an address or a page.

    Pages count from 1.
    """

    left: float
    top: float
    right: float
    bottom: float
    address: str | None
    target: int | None
