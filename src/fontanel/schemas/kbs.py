"""Knowledge bases, documents, revisions, passages and jobs."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from fontanel.schemas.base import LocatorOut, Model, Name

StateName = Literal["waiting", "reading", "splitting", "indexed_by_words", "indexed", "failed"]


class KbIn(Model):
    name: Name = Field(examples=["Harbour rules"])
    description: str = Field("", max_length=500)
    throwaway: bool = Field(False, description="Vanishes by itself after a day.")


class KbChange(Model):
    name: Name | None = None
    description: str | None = Field(None, max_length=500)


class KbOut(Model):
    id: str
    slug: str
    name: str
    description: str
    documents: int
    passages: int
    pending: int = Field(description="Documents that are not indexed yet.")
    failed: int
    embedder: str | None
    created_at: datetime
    changed_at: datetime | None = Field(description="When one of its documents last changed.")
    expires_at: datetime | None
    version: int


class RevisionOut(Model):
    id: str
    number: int
    sha256: str
    size: int = Field(description="Bytes of the original.")
    media_type: str | None
    pages: int | None
    passages: int | None
    tokens: int | None
    language: str | None
    warnings: list[str]
    seconds: dict[str, float] = Field(description="Seconds by stage.")
    created_at: datetime
    indexed_at: datetime | None


class DocumentOut(Model):
    """A document with its newest revision; `serving_revision` is the one that searches and answers use."""

    id: str
    kb_id: str
    name: str
    title: str
    state: StateName
    progress: float | None = Field(description="Share of the present stage that is done, 0-1.")
    error_code: str | None
    error: str | None = Field(description="Why it failed and what to do.")
    tags: dict[str, str]
    revision: RevisionOut
    serving_revision: str | None
    created_at: datetime
    changed_at: datetime
    version: int


class DocumentChange(Model):
    tags: dict[str, str]


class JobOut(Model):
    id: str
    document_id: str
    stage: Literal["read", "embed"]
    state: Literal["waiting", "running", "done", "failed"]
    done: int
    total: int
    attempts: int
    error: str | None
    created_at: datetime
    changed_at: datetime


class AddedOut(Model):
    """What adding a file did. `job` is what to follow; None when the bytes were the same as before."""

    outcome: Literal["added", "revised", "unchanged"]
    document: DocumentOut
    job: JobOut | None


class BlockOut(Model):
    kind: Literal["heading", "paragraph", "list", "table", "code"]
    start: int
    end: int
    level: int = 0
    page: int | None = None
    anchor: str | None = None
    header_rows: int = 0


class DocumentTextOut(Model):
    """The text of a revision and the blocks it is made of."""

    document_id: str
    revision: RevisionOut
    title: str
    text: str
    blocks: list[BlockOut]


class PassageOut(Model):
    id: int
    ordinal: int
    start: int
    end: int
    text: str
    context: str
    tokens: int
    locator: LocatorOut
