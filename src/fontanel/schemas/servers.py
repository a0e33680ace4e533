"""What models and embedders have in common: each is a server that operators set up."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated
from urllib.parse import urlsplit

from pydantic import AfterValidator, Field, StringConstraints

from fontanel.schemas.base import Model, Name


def _check_address(value: str) -> str:
    parts = urlsplit(value)
    if parts.scheme not in ("http", "https") or not parts.hostname or parts.username:
        raise ValueError("write the address as https://host/v1, without a name or password in it")
    return value.rstrip("/")


#: The base address of a server.
Address = Annotated[str, StringConstraints(max_length=500), AfterValidator(_check_address)]
Currency = Annotated[str, StringConstraints(pattern="^[A-Z]{3}$")]
#: What is sent as a bearer token.
Secret = Annotated[str, StringConstraints(max_length=500, pattern=r"^[\x21-\x7e]*$")] | None


class ServerIn(Model):
    """A server, without what is special to its kind."""

    name: Name
    url: Address
    secret: Secret = Field(
        None, description="Sent as a bearer token; stored encrypted, never returned."
    )
    currency: Currency = "EUR"
    teams: list[str] | None = Field(
        None, description="Teams that may use it, by short name; null for all."
    )
    seconds: float = Field(60.0, gt=0, le=600, description="How long it may be silent.")
    tries: int = Field(3, ge=1, le=6, description="Attempts while it is busy.")
    enabled: bool = True


class ServerChange(Model):
    """Fields left out stay; a secret of "" deletes it."""

    url: Address | None = None
    secret: Secret = None
    currency: Currency | None = None
    teams: list[str] | None = None
    seconds: float | None = Field(None, gt=0, le=600)
    tries: int | None = Field(None, ge=1, le=6)
    enabled: bool | None = None


class ServerOut(Model):
    """A server; `error` is from the last check or use, None if it succeeded."""

    id: str
    name: str
    url: str
    remote: str
    has_secret: bool
    currency: str
    teams: list[str] | None
    seconds: float
    tries: int
    enabled: bool
    error: str | None
    checked_at: datetime | None
    version: int
