"""Text-generating models."""

from __future__ import annotations

from pydantic import Field

from fontanel.schemas.base import Model
from fontanel.schemas.servers import Address, ServerChange, ServerIn, ServerOut


class ModelIn(ServerIn):
    """A model server with the chat-completions protocol.

    Prices are per million tokens.
    """

    url: Address = Field(
        examples=["http://127.0.0.1:8471/v1"],
        description="What `/chat/completions` is added to.",
    )
    remote: str = Field("", max_length=200, description="The model's name at its server.")
    price_read: float = Field(0.0, ge=0)
    price_written: float = Field(0.0, ge=0)


class ModelChange(ServerChange):
    """Fields left out stay; a secret of "" deletes it."""

    remote: str | None = None
    price_read: float | None = Field(None, ge=0)
    price_written: float | None = Field(None, ge=0)


class ModelOut(ServerOut):
    """A model; `error` is from the last check or use, None if it succeeded."""

    price_read: float
    price_written: float


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
