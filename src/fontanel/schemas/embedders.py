"""Embedders: the service's own, and those that operators register."""

from __future__ import annotations

from pydantic import Field, model_validator

from fontanel.schemas.base import Model
from fontanel.schemas.servers import Address, ServerChange, ServerIn, ServerOut

_PREFIX = 200


class EmbedderIn(ServerIn):
    """A server with the embeddings protocol, or a directory. It is checked before."""

    url: Address | None = Field(  # type: ignore[assignment]
        None,
        examples=["http://127.0.0.1:8473/v1"],
        description="What `/embeddings` is added to.",
    )
    directory: str | None = Field(
        None,
        max_length=1000,
        description=(
            "A directory of the service's machine with `model.onnx` and `tokenizer.json`, instead"
            " of an address. Prefixes and limits are read from its files where they are not given."
        ),
    )
    remote: str = Field("", max_length=200, description="The embedder's name at its server.")
    dimensions: int | None = Field(
        None,
        ge=64,
        le=4096,
        description=(
            "Only the first dimensions of the vectors are kept; for embedders that were trained for"
            " it. The server is asked to cut them; otherwise the service does. Default: all."
        ),
    )
    question_prefix: str = Field(
        "", max_length=_PREFIX, description="Written before questions, as the embedder expects it."
    )
    passage_prefix: str = Field("", max_length=_PREFIX, description="Written before passages.")
    batch: int = Field(64, ge=1, le=2048, description="The maximum number of texts of a request.")
    at_once: int = Field(2, ge=1, le=16, description="The maximum number of requests at once.")
    price: float = Field(0.0, ge=0, description="Per million tokens.")

    @model_validator(mode="after")
    def _has_one_place(self) -> EmbedderIn:
        if (self.url is None) == (self.directory is None):
            raise ValueError("give either the address of a server or a directory")
        if self.url is not None and not self.remote:
            raise ValueError("name the embedder at its server (remote)")
        if self.directory is not None and self.secret:
            raise ValueError("an embedder in a directory has no secret")
        return self


class EmbedderChange(ServerChange):
    """Fields left out stay. What decides about its vectors cannot be changed."""

    batch: int | None = Field(None, ge=1, le=2048)
    at_once: int | None = Field(None, ge=1, le=16)
    price: float | None = Field(None, ge=0)


class EmbedderOut(ServerOut):
    """An embedder; `error` is from its last use, None if it gave vectors."""

    directory: str | None = Field(description="None for one at an address.")
    dimensions: int
    uncut: int | None = Field(
        description="Dimensions of its vectors before the service cuts them; None if it does not."
    )
    question_prefix: str
    passage_prefix: str
    batch: int
    at_once: int
    price: float
    used_by: int = Field(description="Knowledge bases with an edition of it.")


class EmbedderName(Model):
    """An embedder as a team sees it."""

    name: str
    own: bool = Field(description="Whether it is the service's own, which needs no server.")
    dimensions: int
    price: float = Field(description="Per million tokens.")
    currency: str
    error: str | None


class EmbedderCheck(Model):
    """The result of embedding questions and the texts that answer them."""

    works: bool
    error: str | None
    seconds: float


class EditionEstimate(Model):
    """What building an edition with an embedder takes, before it is built."""

    embedder: str | None
    passages: int
    texts: int = Field(description="Texts to embed: passages, and windows of them.")
    tokens: int = Field(description="About as many; embedded text is not subtracted.")
    cost: float
    currency: str
    seconds: float | None = Field(
        description=(
            "About how long building takes, at the pace of earlier documents; None if nothing was"
            " embedded before."
        )
    )
