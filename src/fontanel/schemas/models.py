"""Text-generating models."""

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


class ModelIn(Model):
    """A model server with the chat-completions protocol.

    Prices are per million tokens.
    """

    name: Name
    url: Address = Field(
        examples=["http://127.0.0.1:8471/v1"],
        description="What `/chat/completions` is added to.",
    )
    remote: str = Field("", max_length=200, description="The model's name at its server.")
    secret: Secret = Field(
        None, description="Sent as a bearer token; stored encrypted, never returned."
    )
    price_read: float = Field(0.0, ge=0)
    price_written: float = Field(0.0, ge=0)
    currency: Currency = "EUR"
    teams: list[str] | None = Field(
        None, description="Teams that may use it, by short name; null for all."
    )
    seconds: float = Field(60.0, gt=0, le=600, description="How long it may be silent.")
    tries: int = Field(3, ge=1, le=6)
    enabled: bool = True


class ModelChange(Model):
    url: Address | None = None
    remote: str | None = None
    secret: Secret = None
    price_read: float | None = Field(None, ge=0)
    price_written: float | None = Field(None, ge=0)
    currency: Currency | None = None
    teams: list[str] | None = None
    seconds: float | None = Field(None, gt=0, le=600)
    tries: int | None = Field(None, ge=1, le=6)
    enabled: bool | None = None


class ModelOut(Model):
    """A model; `error` is from the last check or use, None if it succeeded."""

    id: str
    name: str
    url: str
    remote: str
    has_secret: bool
    price_read: float
    price_written: float
    currency: str
    teams: list[str] | None
    seconds: float
    tries: int
    enabled: bool
    error: str | None
    checked_at: datetime | None
    version: int


class ModelName(Model):
    """A model as a team sees it."""

    name: str
    currency: str
    price_read: float
    price_written: float
    error: str | None


class ModelCheck(Model):
    """The result of asking a model one short question."""

    works: bool
    error: str | None
    first_seconds: float | None
    seconds: float
    text: str
