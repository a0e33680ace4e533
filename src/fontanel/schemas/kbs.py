"""Knowledge bases, documents, revisions, passages and jobs."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field, model_validator

from fontanel.facts import DocumentState, OutdatedRanking, SplitSettings, TableMode
from fontanel.schemas.base import LocatorOut, Model, Name, UnitName
from fontanel.schemas.validity import ValidityOut

StateName = DocumentState


_SPLIT = SplitSettings()


class Splitting(Model):
    """How documents are cut into passages; sizes in the embedder's tokens."""

    target_tokens: int = Field(
        _SPLIT.target_tokens, ge=40, le=1000, description="What a passage aims at."
    )
    min_tokens: int = Field(
        _SPLIT.min_tokens,
        ge=0,
        le=500,
        description="Below this a passage is joined with its neighbour.",
    )
    overlap_tokens: int = Field(
        _SPLIT.overlap_tokens,
        ge=0,
        le=300,
        description="Whole sentences repeated from the passage before.",
    )
    table_mode: TableMode = Field(
        _SPLIT.table_mode,
        description=(
            "`packed`: rows up to the target size in one passage; `single`: one row per passage."
        ),
    )

    windows: bool = Field(
        _SPLIT.windows,
        description=(
            "Besides its own vector a passage has one for each few sentences: finds more, embeds"
            " twice as much."
        ),
    )

    compact: bool = Field(
        _SPLIT.compact,
        description=(
            "Store vectors as bytes: a quarter of the disk and memory, with nearly the same"
            " ranking."
        ),
    )

    @model_validator(mode="after")
    def _sizes_fit(self) -> Splitting:
        if "min_tokens" not in self.model_fields_set:
            self.min_tokens = min(self.min_tokens, self.target_tokens * 2 // 5)
        if self.overlap_tokens >= self.target_tokens or self.min_tokens > self.target_tokens:
            raise ValueError("overlap_tokens must be below target_tokens, min_tokens not above it")
        return self


class KbIn(Model):
    name: Name = Field(examples=["Harbour rules"])
    description: str = Field("", max_length=500)
    splitting: Splitting | None = Field(
        None, description="Default: passages of 300 tokens without overlap, with sentence windows."
    )
    embedder: str | None = Field(
        None, max_length=60, description="The embedder; default: the service's own."
    )
    temporary: bool = Field(default=False, description="Deleted after a day.")
    describer: str | None = Field(
        None,
        max_length=60,
        description="The model that describes its documents; default: their own words do.",
    )
    transcriber: str | None = Field(
        None,
        max_length=60,
        description="What transcribes its recordings; without one they wait for it.",
    )
    spoken: str | None = Field(
        None,
        max_length=8,
        pattern=r"^([a-z]{2,3})?$",
        description=(
            "The language of its recordings, such as `en`; without it the transcriber finds out."
        ),
    )
    viewer: str | None = Field(
        None,
        max_length=60,
        description="The model that describes its pictures; without one they are not described.",
    )
    max_pictures: int = Field(
        20, ge=1, le=500, description="How many pictures of each document are described."
    )
    outdated: OutdatedRanking = Field(
        OutdatedRanking.LOWER,
        description=(
            "How documents that are not in force rank: `lower` than others, as `equal`, or"
            " `exclude` them from searches and answers."
        ),
    )


class KbChange(Model):
    name: Name | None = None
    description: str | None = Field(None, max_length=500)
    describer: str | None = Field(
        None,
        max_length=60,
        description="The model that describes its documents; `built-in`: their own words do.",
    )
    transcriber: str | None = Field(
        None,
        max_length=60,
        description="What transcribes its recordings; an empty string for none.",
    )
    spoken: str | None = Field(
        None,
        max_length=8,
        pattern=r"^([a-z]{2,3})?$",
        description=(
            "The language of its recordings, such as `en`; an empty string if the transcriber finds"
            " out."
        ),
    )
    viewer: str | None = Field(
        None,
        max_length=60,
        description="The model that describes its pictures; `built-in` for none.",
    )
    max_pictures: int | None = Field(
        None, ge=1, le=500, description="How many pictures of each document are described."
    )
    outdated: OutdatedRanking | None = Field(
        None, description="How documents that are not in force rank."
    )
    proposes_questions: bool | None = Field(
        None, description="Whether the questions that its documents answer are proposed."
    )
    proposer: str | None = Field(
        None,
        max_length=60,
        description="The model that proposes them; `built-in`: rules make them from the text.",
    )
    trial_set: str | None = Field(
        None,
        max_length=200,
        description=(
            "The question set that another edition has to pass before it is activated; an empty"
            " string for none."
        ),
    )
    max_losses: int | None = Field(
        None,
        ge=0,
        le=1000,
        description="How many questions it may answer worse than the active edition.",
    )


class DescribingOut(Model):
    """How far a model is with describing documents."""

    model: str
    described: int
    waiting: int
    failed: int = Field(description="Documents whose description was rejected.")
    error: str | None = Field(description="The newest failure, or why the model is not asked.")


class ViewingOut(DescribingOut):
    """How far a model is with describing pictures, each counted once."""

    failed: int = Field(description="Pictures that will not be described.")


class PictureEstimateOut(Model):
    """What having a model describe the pictures of a knowledge base takes."""

    model: str
    pictures: int = Field(description="Those that are not described yet, each counted once.")
    documents: int
    tokens: int = Field(description="About as many, read and written.")
    cost: float
    currency: str


class KbOut(Model):
    id: str
    slug: str
    name: str
    description: str
    proposes_questions: bool
    proposer: str | None = Field(description="The model that proposes them.")
    transcriber: str | None = Field(description="What transcribes its recordings.")
    spoken: str | None = Field(description="The language of its recordings, if it is set.")
    trial_set: str | None = Field(description="The question set that editions have to pass.")
    max_losses: int = Field(description="How many of its questions an edition may lose.")
    documents: int
    passages: int
    pending: int = Field(description="Documents that are not indexed yet.")
    failed: int
    untranscribed: int = Field(description="Recordings for which no transcriber can be used.")
    outdated_documents: int = Field(description="Documents that are not in force.")
    outdated: OutdatedRanking = Field(description="How those rank.")
    approved: int = Field(description="Approved answers, without drafts and retired ones.")
    flagged: int = Field(description="Approved answers whose text has changed.")
    embedder: str | None
    embedder_error: str | None = Field(
        description="Why its embedder gives no vectors: searches use keywords only meanwhile."
    )
    splitting: Splitting
    max_pictures: int = Field(description="How many pictures of each document are described.")
    viewing: ViewingOut | None = Field(None, description="None where no model describes pictures.")
    describing: DescribingOut | None = Field(
        None, description="None where documents are described by their own words."
    )
    created_at: datetime
    changed_at: datetime | None = Field(description="When one of its documents last changed.")
    expires_at: datetime | None
    version: int


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
