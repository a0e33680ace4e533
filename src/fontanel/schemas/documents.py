"""Documents, their revisions and texts, passages and jobs."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from fontanel.facts import DocumentState
from fontanel.schemas.base import LocatorOut, Model, UnitName
from fontanel.schemas.validity import ValidityOut

StateName = DocumentState


class Columns(Model):
    """What a table's columns mean: its rows become documents of their own."""

    text: list[str] = Field(min_length=1, max_length=50, description="Columns with a row's text.")
    title: str | None = Field(None, description="The column that names a row.")
    tags: list[str] = Field([], max_length=30, description="Columns that become tags.")


class ReportOut(Model):
    """The reading report.

    `recognised` are recognised pages with their confidence, 0-1.
    """

    unit: UnitName
    pages: int | None
    words: int
    characters: int
    blocks: dict[str, int] = Field(description="Blocks by kind.")
    table_rows: int
    figures: int
    recognised: list[tuple[int, float]]
    language: str
    left_out: int = Field(
        0, description="Blocks that are not indexed, as they repeat on other pages of the source."
    )


class RevisionOut(Model):
    id: str
    number: int
    sha256: str
    size: int = Field(description="Bytes of the original.")
    media_type: str | None
    pages: int | None
    duration: float | None = Field(None, description="Of a recording, in seconds.")
    passages: int | None
    tokens: int | None
    language: str | None
    warnings: list[str]
    report: ReportOut | None = Field(description="None until it has been read.")
    columns: Columns | None = Field(
        None, description="The meaning of its table's columns, if it was set."
    )
    seconds: dict[str, float] = Field(description="Seconds by stage.")
    embedded: int = Field(0, description="Passages whose vectors were not known before.")
    created_at: datetime
    source_changed_at: datetime | None = Field(None, description="When it changed at its source.")
    answerable_at: datetime | None = Field(
        None, description="When its words were first searchable."
    )
    indexed_at: datetime | None
    original_deleted_at: datetime | None = Field(
        None, description="When its original was deleted after the team's retention."
    )


class DocumentOut(Model):
    """A document with its newest revision; `active_revision` is the one in answers."""

    id: str
    kb_id: str
    name: str
    title: str
    description: str = Field(description="One or two sentences on what it is about.")
    described_by: str | None = Field(
        None, description="The model that wrote the description; None: its own words."
    )
    parent: str | None = Field(
        description="The document it was found in: an archive, a message, a table."
    )
    source: str | None = Field(description="The source that keeps it; None for what people added.")
    link: str = Field(description="Where people open the original at its source; may be empty.")
    validity: ValidityOut | None = Field(
        None, description="Null if neither its text nor a person says anything about it."
    )
    state: StateName
    progress: float | None = Field(description="Share of the present stage that is done, 0-1.")
    error_code: str | None
    error: str | None = Field(description="Why it failed or waits, and what to do.")
    tags: dict[str, str]
    revision: RevisionOut
    active_revision: str | None
    created_at: datetime
    changed_at: datetime
    version: int


class RemovedOut(Model):
    """A document that was deleted."""

    id: str


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
    """The effect of adding a file; `job` is None when the bytes were unchanged."""

    outcome: Literal["added", "revised", "unchanged"]
    document: DocumentOut
    job: JobOut | None


class BlockOut(Model):
    kind: Literal["heading", "paragraph", "list", "table", "code", "figure", "cue", "footnote"]
    start: int
    end: int
    level: int = 0
    page: int | None = None
    anchor: str | None = None
    header_rows: int = 0
    row: int | None = None
    seconds: float | None = None
    confidence: float | None = None
    left_out: bool = Field(
        default=False, description="Not indexed, as it repeats on other pages of the source."
    )
    picture: str | None = Field(None, description="The hash of a figure's picture.")
    described_by: str | None = Field(
        None, description="The model whose words about the picture these are."
    )


class DocumentTextOut(Model):
    """The text of a revision and its blocks."""

    document_id: str
    revision: RevisionOut
    title: str
    text: str
    blocks: list[BlockOut]
    unit: UnitName
    unit_names: list[str]
    drawn: bool = Field(description="Whether its pages can be shown as pictures.")


class CutOut(Model):
    """The characters [start, end) of a text that make a passage."""

    ordinal: int
    start: int
    end: int
    text: str
    context: str
    tokens: int
    locator: LocatorOut


class PassageOut(CutOut):
    id: int


class PlaceOut(Model):
    """The box of characters [start, end), in shares of the page's size."""

    start: int
    end: int
    left: float
    top: float
    right: float
    bottom: float


class LinkOut(Model):
    """A box on a page, in shares of its size, with an address or a page."""

    left: float
    top: float
    right: float
    bottom: float
    address: str | None
    target: int | None


class PageOut(Model):
    """A page of a document: its characters with their boxes, and its links.

    `shape` is a slide's width over its height.
    """

    number: int
    label: str | None
    start: int
    end: int
    places: list[PlaceOut]
    links: list[LinkOut]
    shape: float | None


class SizesOut(Model):
    """The sizes of passages in tokens; `bins` counts those between two bounds."""

    passages: int
    min: int
    median: int
    max: int
    bins: list[tuple[int, int, int]] = Field(description="From, to, how many.")


class PreviewOut(Model):
    """How a file would be read and split: its text, blocks and passages."""

    name: str
    title: str
    description: str
    media_type: str | None
    report: ReportOut
    warnings: list[str]
    text: str
    blocks: list[BlockOut]
    passages: list[CutOut]
    sizes: SizesOut
    inside: list[str] = Field(
        description="Files inside it that would become documents of their own."
    )
    seconds: dict[str, float]
