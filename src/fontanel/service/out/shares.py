"""Shares with their intervals as the API returns them."""

from __future__ import annotations

from dataclasses import asdict

from fontanel.core.trials import share
from fontanel.schemas import ShareOut


def share_out(count: int, of: int) -> ShareOut:
    return ShareOut(**asdict(share(count, of)))
