"""Desks, their published versions and links, and the models that write for them."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    ForeignKey,
    UniqueConstraint,
)
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, now, of_team
from fontanel.records.tables.servers import Server


class Desk(Base):
    """What chat users talk to.

    `draft` are the settings being edited; `published` is the number of the published version, None
    if there is none; `second_share` per cent of the askers get `second_version` instead.
    `visitor_key`, with which another site signs who its visitors are, is encrypted.
    """

    __tablename__ = "desks"
    __table_args__ = (UniqueConstraint("team_id", "slug"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    slug: Mapped[str]
    name: Mapped[str]
    draft: Mapped[dict[str, Any]]
    published: Mapped[int | None]
    second_version: Mapped[int | None]
    second_share: Mapped[int] = mapped_column(default=0, server_default="0")
    second_since: Mapped[datetime | None]
    visitor_key: Mapped[bytes | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now)
    version: Mapped[int] = mapped_column(default=1)


class DeskVersion(Base):
    """Published settings of a desk, never changed; `author` published them."""

    __tablename__ = "desk_versions"
    __table_args__ = (UniqueConstraint("desk_id", "number"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    desk_id: Mapped[str] = mapped_column(ForeignKey("desks.id", ondelete="CASCADE"))
    number: Mapped[int]
    settings: Mapped[dict[str, Any]]
    note: Mapped[str] = mapped_column(default="")
    author: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(default=now)


class DeskLink(Base):
    """A link by which anyone may ask a desk; its secret is stored hashed."""

    __tablename__ = "desk_links"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    desk_id: Mapped[str] = mapped_column(ForeignKey("desks.id", ondelete="CASCADE"), index=True)
    name: Mapped[str]
    start: Mapped[str]
    secret_hash: Mapped[str] = mapped_column(unique=True)
    per_minute: Mapped[int] = mapped_column(default=10)
    created_at: Mapped[datetime] = mapped_column(default=now)
    expires_at: Mapped[datetime | None]
    revoked_at: Mapped[datetime | None]
    last_used_at: Mapped[datetime | None]


class TextModel(Server, Base):
    """A text-generating model at an address; prices are per million tokens."""

    __tablename__ = "models"

    price_read: Mapped[float] = mapped_column(default=0.0)
    price_written: Mapped[float] = mapped_column(default=0.0)
