"""Links by which guests reach a desk: whether they work, and why not."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.answering.targets import published_version
from fontanel.errors import Conflict
from fontanel.records.tables import Desk, DeskLink, now


class LinkState(StrEnum):
    """Whether a link works; if not, why."""

    OPEN = "open"
    REVOKED = "revoked"
    EXPIRED = "expired"
    NOT_PUBLISHED = "not_published"
    MEMBERS_ONLY = "members_only"

    @property
    def reason(self) -> str:
        """Why a link in this state does not work, as a sentence for editors."""
        return _REASONS[self]


_REASONS = {
    LinkState.OPEN: "The link works.",
    LinkState.REVOKED: "The link was revoked.",
    LinkState.EXPIRED: "The link has expired.",
    LinkState.NOT_PUBLISHED: "The desk is not published yet.",
    LinkState.MEMBERS_ONLY: "The published version of the desk is for members only.",
}


def published_settings(session: Session, desk: Desk) -> Mapping[str, Any] | None:
    """Return the settings of the published version, None if none is."""
    version = published_version(session, desk)
    return None if version is None else version.settings


def link_state(link: DeskLink, settings: Mapping[str, Any] | None) -> LinkState:
    """Return whether a link works while these settings of its desk are published."""
    if link.revoked_at is not None:
        return LinkState.REVOKED
    if link.expires_at is not None and link.expires_at <= now():
        return LinkState.EXPIRED
    if settings is None:
        return LinkState.NOT_PUBLISHED
    return LinkState.OPEN if settings.get("audience") == "link" else LinkState.MEMBERS_ONLY


def check_links_stay_open(session: Session, desk: Desk, settings: Mapping[str, Any]) -> None:
    """Refuse to publish settings that would close links which work now.

    Raises:
        Conflict: guests would lose their access.
    """
    published = published_settings(session, desk)
    links = session.scalars(select(DeskLink).where(DeskLink.desk_id == desk.id)).all()
    closed = [
        link.name
        for link in links
        if link_state(link, published) == LinkState.OPEN
        and link_state(link, settings) != LinkState.OPEN
    ]
    if closed:
        names = ", ".join(sorted(closed))
        raise Conflict(
            "This version is for members only. It would close "
            f"{'a link' if len(closed) == 1 else f'{len(closed)} links'} of guests: {names}.",
            field="close_links",
            advice="Set close_links to publish it anyway.",
        )
