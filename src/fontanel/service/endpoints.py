"""Servers that operators register: whose they are, and where their secrets may be sent."""

from __future__ import annotations

from typing import Any

import httpx
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.errors import Refused
from fontanel.records.tables import Embedder, Team, TextModel, Transcriber, now
from fontanel.records.vault import Vault
from fontanel.sources.network.reach import origin_of


def _origin(url: str) -> str:
    """Where a secret is sent. Raises Refused."""
    try:
        return origin_of(url)
    except (httpx.InvalidURL, ValueError) as error:
        raise Refused("url", f"{url[:200]!r} is not an address.") from error


def team_ids(session: Session, slugs: list[str] | None) -> list[str] | None:
    """Return the ids of teams by their short names; None for all. Raises Refused."""
    if slugs is None:
        return None
    existing = {slug: team_id for team_id, slug in session.execute(select(Team.id, Team.slug))}
    for slug in slugs:
        if slug not in existing:
            raise Refused("teams", f"There is no team {slug!r}.")
    return sorted({existing[slug] for slug in slugs})


def team_slugs(session: Session, ids: list[str] | None) -> list[str] | None:
    """Return the short names of teams; None for all."""
    if ids is None:
        return None
    return list(session.scalars(select(Team.slug).where(Team.id.in_(ids)).order_by(Team.slug)))


def change_endpoint(
    session: Session, vault: Vault, row: TextModel | Embedder | Transcriber, values: dict[str, Any]
) -> None:
    """Change a server; values that are None change nothing, a secret of "" deletes it.

    Raises:
        Refused: the stored secret would be sent elsewhere, or a team does not exist.
    """
    moves = values.get("url") is not None and _origin(values["url"]) != _origin(row.url)
    if moves and row.secret is not None and "secret" not in values:
        raise Refused(
            "secret",
            f"The stored secret is for {_origin(row.url)}. Enter it again for"
            f" {_origin(values['url'])}.",
        )
    if "secret" in values:
        secret = values.pop("secret")
        row.secret = vault.seal(secret) if secret else None
    if "teams" in values:
        row.team_ids = team_ids(session, values.pop("teams"))
    for name, value in values.items():
        if value is not None:
            setattr(row, name, value)
    row.version += 1
    row.changed_at = now()
