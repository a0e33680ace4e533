"""Pictures in documents, and what models say about them."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, now, of_team


class RevisionPicture(Base):
    """A picture of a revision, in order; its size is in pixels."""

    __tablename__ = "revision_pictures"

    revision_id: Mapped[str] = mapped_column(
        ForeignKey("revisions.id", ondelete="CASCADE"), primary_key=True
    )
    number: Mapped[int] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"), index=True)
    sha256: Mapped[str] = mapped_column(index=True)
    width: Mapped[int]
    height: Mapped[int]


class PictureDescription(Base):
    """A model's description of a picture, which a team pays for once, or why there is none.

    `sha256` is that of the picture in its document, and `blob` that of the JPEG made of it, None if
    it cannot be drawn. A failed call is retried at `again_at`, unless that is None.
    """

    __tablename__ = "picture_descriptions"
    __table_args__ = (UniqueConstraint("team_id", "sha256", "model"),)

    key: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = of_team()
    sha256: Mapped[str]
    model: Mapped[str]
    blob: Mapped[str | None]
    description: Mapped[str] = mapped_column(default="")
    text: Mapped[str] = mapped_column(default="")
    error: Mapped[str | None]
    tries: Mapped[int] = mapped_column(default=0)
    again_at: Mapped[datetime | None]
    at: Mapped[datetime] = mapped_column(default=now)
