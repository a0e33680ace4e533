"""What the tools take and return. The descriptions are read by models."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from fontanel.schemas.base import Model

#: The maximum number of characters that are read at once.
MAX_CHARACTERS = 40_000
#: The maximum number of characters of a proposed document.
MAX_PROPOSED = 200_000


class SearchArguments(Model):
    question: str = Field(
        min_length=1, max_length=2000, description="A question, or words to search for."
    )
    kbs: list[str] | None = Field(
        None,
        max_length=20,
        description="Short names of the knowledge bases to search. Default: all of them.",
    )
    limit: int = Field(8, ge=1, le=50, description="The maximum number of passages.")
    tags: dict[str, str] = Field(
        default_factory=dict, max_length=20, description="Only documents with these tags."
    )
    documents: list[str] | None = Field(
        None, max_length=100, description="Only these documents, by name or id."
    )


class AskArguments(Model):
    question: str = Field(min_length=1, max_length=2000, description="The whole question.")
    kb: str | None = Field(
        None,
        max_length=200,
        description="The short name of the knowledge base. Not needed if there is only one.",
    )
    desk: str | None = Field(
        None,
        max_length=200,
        description="The short name of a desk, instead of a knowledge base.",
    )
    conversation: str | None = Field(
        None,
        max_length=100,
        description="Continue this conversation, named by an earlier answer.",
    )

    @model_validator(mode="after")
    def _asks_one(self) -> AskArguments:
        if self.kb is not None and self.desk is not None:
            raise ValueError("name a knowledge base or a desk, not both")
        return self


class ReadArguments(Model):
    uri: str | None = Field(
        None, max_length=2000, description="The address of a document or of a revision of it."
    )
    kb: str | None = Field(
        None, max_length=200, description="Its knowledge base, without an address."
    )
    document: str | None = Field(
        None, max_length=1000, description="The document's name or id, without an address."
    )
    passage: int | None = Field(
        None, ge=0, le=2**62, description="The id of a passage, to read it with those around it."
    )
    neighbours: int = Field(
        1, ge=0, le=10, description="How many passages before and after it are read."
    )
    start: int = Field(
        0, ge=0, le=2**53, description="The character to begin at, without a passage."
    )
    characters: int = Field(
        8_000, ge=1, le=MAX_CHARACTERS, description="The maximum number of characters."
    )

    @model_validator(mode="after")
    def _names_one(self) -> ReadArguments:
        if (self.uri is None) == (self.kb is None or self.document is None):
            raise ValueError("give the address of a document, or its knowledge base and name")
        return self


class ProposeArguments(Model):
    kb: str = Field(max_length=200, description="The short name of the knowledge base.")
    name: str = Field(
        min_length=1,
        max_length=300,
        description="The document's name; ends in .md, .txt or .csv. The name of a document that"
        " exists proposes another text for it.",
    )
    text: str = Field(
        min_length=1, max_length=MAX_PROPOSED, description="The whole text of the document."
    )
    reason: str = Field(
        max_length=2000, description="Why, and where it comes from, for the editor who decides."
    )


class NoArguments(Model):
    """Nothing."""


class Passage(Model):
    """A passage with its place. `match` is its relevance, 0 to 1."""

    kb: str
    document: str
    document_id: str
    title: str
    place: str
    text: str
    match: float
    passage: int
    start: int
    end: int
    uri: str
    not_in_force: str | None = None


class SearchResult(Model):
    passages: list[Passage]
    notices: list[str]


class Citation(Model):
    """Where a statement of the answer comes from: the quote and its place."""

    number: int
    title: str
    place: str
    quote: str
    document_id: str
    start: int
    end: int
    uri: str | None
    not_in_force: str | None = None


class AskResult(Model):
    """An answer with its citations. When it was declined, `nearest` are the nearest passages."""

    outcome: Literal["answered", "declined", "small_talk", "unfinished"]
    answer: str
    citations: list[Citation]
    note: str
    understood_as: str
    approved_by: str | None
    meant: list[str] = Field(description="Approved questions that may have been meant.")
    nearest: list[Citation]
    conversation: str
    turn: str


class ReadResult(Model):
    """Characters [start, end) of a document's text, which has `length` characters."""

    kb: str
    document_id: str
    title: str
    revision: int
    uri: str
    text: str
    start: int
    end: int
    length: int
    place: str | None = None


class KbEntry(Model):
    kb: str
    name: str
    description: str
    documents: int
    passages: int


class DeskEntry(Model):
    desk: str
    name: str
    description: str


class ProposeResult(Model):
    """A proposal, which waits for an editor; nothing is found in it until then."""

    proposed: str
    kb: str
    name: str
    state: Literal["open", "accepted", "dismissed"]
    changes_document: bool


class KbList(Model):
    knowledge_bases: list[KbEntry]
    desks: list[DeskEntry]
