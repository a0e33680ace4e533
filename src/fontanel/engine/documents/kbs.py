"""Knowledge bases: created with their first edition."""

from __future__ import annotations

from dataclasses import asdict
from datetime import timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.core.text.analysis import ANALYSER_VERSION
from fontanel.errors import Refused
from fontanel.facts import SplitSettings
from fontanel.records.ids import new_id, slug_of
from fontanel.records.tables import (
    Edition,
    Kb,
    now,
)


def create_kb(
    session: Session,
    team_id: str,
    name: str,
    description: str,
    embedder: str | None,
    lives: timedelta | None = None,
    split: SplitSettings | None = None,
) -> Kb:
    """Create a knowledge base with its first edition.

    Raises:
        Refused: the team has one of that name.
    """
    slug = base = slug_of(name)
    if session.scalar(
        select(Kb.id).where(Kb.team_id == team_id, func.lower(Kb.name) == name.lower())
    ):
        raise Refused(
            "name", f"There is a knowledge base named {name!r} already. Choose another name."
        )
    number = 1
    while session.scalar(select(Kb.id).where(Kb.team_id == team_id, Kb.slug == slug)):
        number += 1
        slug = f"{base}-{number}"
    kb = Kb(
        id=new_id("kb"),
        team_id=team_id,
        slug=slug,
        name=name,
        description=description,
        edition_id=new_id("ed"),
        expires_at=now() + lives if lives else None,
    )
    session.add(kb)
    session.flush()
    settings = {**asdict(split or SplitSettings()), "analyser": ANALYSER_VERSION}
    session.add(
        Edition(
            id=kb.edition_id, team_id=team_id, kb_id=kb.id, embedder=embedder, settings=settings
        )
    )
    return kb
