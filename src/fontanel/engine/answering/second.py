"""Which of two published versions an asker gets."""

from __future__ import annotations

import hashlib

from fontanel.records.tables import Desk


def version_for(desk: Desk, asker: str) -> int | None:
    """Return the published version of a desk that an asker gets, always the same one."""
    if desk.second_version is None or desk.published is None:
        return desk.published
    seed = f"{desk.id}:{desk.second_version}:{asker}".encode()
    place = int.from_bytes(hashlib.sha256(seed).digest()[:4], "big") % 100
    return desk.second_version if place < desk.second_share else desk.published


def end_second(desk: Desk) -> None:
    """Have all askers get the published version."""
    desk.second_version, desk.second_share, desk.second_since = None, 0, None
