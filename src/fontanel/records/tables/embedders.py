"""Embedders that operators registered, besides the service's own."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base
from fontanel.records.tables.servers import Server


class Embedder(Server, Base):
    """An embedder at an address, with the embeddings protocol, or in a directory of this machine.

    Editions name it, so `name`, `remote`, `dimensions` and the prefixes stay as they are: other
    vectors need another embedder. `price` is per million tokens; `factor` and `offset` map its
    cosines to those of the built-in embedder.
    """

    __tablename__ = "embedders"

    #: Where its model is; None for one at an address.
    directory: Mapped[str | None]
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
    #: Seconds that a small request took when it was registered.
    request_seconds: Mapped[float | None]
    #: Tokens that its server counted, and those that were estimated for the same texts.
    tokens_counted: Mapped[int] = mapped_column(default=0, server_default="0")
    tokens_estimated: Mapped[int] = mapped_column(default=0, server_default="0")
    #: Dimensions of its vectors before the service cuts them; None if it does not.
    uncut: Mapped[int | None]
    #: When it was removed. Its name is not used again: vectors of it may still be kept.
    removed_at: Mapped[datetime | None]
