"""Quotas, and counts of what teams have."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ForeignKey
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base


class DefaultQuotas(Base):
    """The quotas of teams without their own: one row. A quota that is missing has no limit."""

    __tablename__ = "default_quotas"

    key: Mapped[int] = mapped_column(primary_key=True)
    limits: Mapped[dict[str, Any]]


class TeamCounts(Base):
    """How many documents a team has, and the bytes of all revisions.

    Triggers of the database change it with each row, so that reading it costs the same whatever a
    team has. Documents that were removed from their source do not count.
    """

    __tablename__ = "team_counts"

    team_id: Mapped[str] = mapped_column(
        ForeignKey("teams.id", ondelete="CASCADE"), primary_key=True
    )
    documents: Mapped[int] = mapped_column(default=0)
    bytes: Mapped[int] = mapped_column(default=0)


class PassageCounts(Base):
    """How many passages an edition has; changed by triggers of the database."""

    __tablename__ = "passage_counts"

    edition_id: Mapped[str] = mapped_column(
        ForeignKey("editions.id", ondelete="CASCADE"), primary_key=True
    )
    passages: Mapped[int] = mapped_column(default=0)
