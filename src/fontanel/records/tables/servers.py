"""What models and embedders have in common: each is a server that operators set up."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import now


class Server:
    """Columns of a server.

    `remote` is the name of what it serves there; `secret` is encrypted; `team_ids` are the teams
    that may use it, None for all; `seconds` is the timeout of a request, `tries` the attempts.
    """

    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    url: Mapped[str]
    remote: Mapped[str]
    secret: Mapped[bytes | None]
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
