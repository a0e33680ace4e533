"""Transcribers: servers that operators register, which turn recordings into text."""

from __future__ import annotations

from pydantic import Field

from fontanel.schemas.base import Model
from fontanel.schemas.servers import Address, ServerChange, ServerIn, ServerOut

_PRICE = "Per minute of a recording."
_PART = "Recordings are sent in parts of this length, which overlap by ten seconds."


class TranscriberIn(ServerIn):
    """A server with the transcription protocol. It is checked before it is registered."""

    url: Address = Field(
        examples=["http://127.0.0.1:8474/v1"],
        description="What `/audio/transcriptions` is added to.",
    )
    remote: str = Field(max_length=200, description="The transcriber's name at its server.")
    seconds: float = Field(300.0, gt=0, le=3600, description="How long it may be silent.")
    price: float = Field(0.0, ge=0, description=_PRICE)
    part_seconds: float = Field(300.0, ge=30, le=3600, description=_PART)


class TranscriberChange(ServerChange):
    """Fields left out stay."""

    remote: str | None = Field(None, max_length=200)
    seconds: float | None = Field(None, gt=0, le=3600)
    price: float | None = Field(None, ge=0, description=_PRICE)
    part_seconds: float | None = Field(None, ge=30, le=3600, description=_PART)


class TranscriberOut(ServerOut):
    """A transcriber; `error` is from its last use, None if it transcribed."""

    price: float
    part_seconds: float
    used_by: int = Field(description="Knowledge bases whose recordings it transcribes.")


class TranscriberName(Model):
    """A transcriber as a team sees it."""

    name: str
    price: float = Field(description=_PRICE)
    currency: str
    error: str | None


class TranscriberCheck(Model):
    """The result of sending a second of sound."""

    works: bool
    error: str | None
    seconds: float
