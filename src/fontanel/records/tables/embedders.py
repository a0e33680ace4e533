"""Embedders that operators registered, besides the service's own."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, now


class Embedder(Base):
    """An embedder at an address, with the embeddings protocol.

    Editions name it, so `name`, `remote`, `dimensions` and the prefixes stay as they are: other
    vectors need another embedder. `price` is per million tokens; `team_ids` are the teams that may
    use it, None for all; `factor` and `offset` map its cosines to those of the built-in embedder.
    """

    __tablename__ = "embedders"

    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    url: Mapped[str]
    remote: Mapped[str]
    secret: Mapped[bytes | None]
    dimensions: Mapped[int]
    #: Whether the server is asked to cut its vectors to these dimensions.
    cut: Mapped[bool] = mapped_column(default=False)
    question_prefix: Mapped[str] = mapped_column(default="")
    passage_prefix: Mapped[str] = mapped_column(default="")
    factor: Mapped[float] = mapped_column(default=1.0)
    offset: Mapped[float] = mapped_column(default=0.0)
    batch: Mapped[int] = mapped_column(default=64)
    at_once: Mapped[int] = mapped_column(default=2)
    price: Mapped[float] = mapped_column(default=0.0)
    currency: Mapped[str] = mapped_column(default="EUR")
    team_ids: Mapped[list[Any] | None]
    seconds: Mapped[float] = mapped_column(default=60.0)
    tries: Mapped[int] = mapped_column(default=3)
    enabled: Mapped[bool] = mapped_column(default=True)
    error: Mapped[str | None]
    checked_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now)
    version: Mapped[int] = mapped_column(default=1)
