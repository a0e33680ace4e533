"""The format of packs: a strict schema of each entry, since packs are untrusted.

A pack is a ZIP archive of stored (uncompressed) entries: `manifest.json` (with the sha256 of every
other entry), `documents.jsonl`, `passages.jsonl`, `vectors.npy` (float32, a row per passage; NaN
where there was none yet), `windows.npy` (likewise, a row per sentence window, in an edition that
has them) and `blobs/<sha256>` (originals and readings).
"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated, Literal

from pydantic import (
    AfterValidator,
    AliasChoices,
    AwareDatetime,
    BaseModel,
    ConfigDict,
    Field,
    StringConstraints,
)

from fontanel.core.reading.model import BlockKind, Unit

#: The kind of file, and the version of what its entries mean.
FORMAT, VERSION = "fontanel-pack", 1
DOCUMENTS, PASSAGES, VECTORS, WINDOWS, BLOBS = (
    "documents.jsonl",
    "passages.jsonl",
    "vectors.npy",
    "windows.npy",
    "blobs/",
)

MAX_DOCUMENTS, MAX_PASSAGES = 1_000_000, 5_000_000
_MAX_TEXT = 1_000_000

Sha256 = Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{64}$")]
Count = Annotated[int, Field(ge=0, le=2**31 - 1)]
Line = Annotated[str, StringConstraints(max_length=100_000)]
Text = Annotated[str, StringConstraints(max_length=_MAX_TEXT)]


def _in_range(value: datetime) -> datetime:
    """Reject times that no service can have written."""
    try:
        moment = value.astimezone(UTC)
    except OverflowError as error:
        raise ValueError("the time cannot be expressed in UTC") from error
    if not 1970 <= moment.year <= 2200:
        raise ValueError("the time is outside 1970 to 2200")
    return moment


Moment = Annotated[AwareDatetime, AfterValidator(_in_range)]


class Strict(BaseModel):
    """No unknown fields, no conversion between types, no NaN or infinity."""

    model_config = ConfigDict(
        extra="forbid", strict=True, allow_inf_nan=False, from_attributes=True
    )


class PackedSplitting(Strict):
    """How the edition's documents were split. The same bounds as in the API."""

    target_tokens: int = Field(ge=40, le=1000)
    #: Packs of earlier versions have it under another name.
    min_tokens: int = Field(
        ge=0, le=500, validation_alias=AliasChoices("min_tokens", "least_tokens")
    )
    overlap_tokens: int = Field(ge=0, le=300)
    table_mode: Literal["packed", "single"]
    windows: bool
    compact: bool


class PackedReport(Strict):
    unit: Unit
    pages: Count | None
    words: Count
    characters: Count
    blocks: dict[BlockKind, Count]
    table_rows: Count
    figures: Count
    recognised: list[tuple[Count, Annotated[float, Field(ge=0, le=1)]]] = Field(max_length=100_000)
    language: Line
    left_out: Count = 0


class PackedColumns(Strict):
    text: list[Line] = Field(max_length=50)
    title: Line | None
    tags: list[Line] = Field(max_length=50)


class PackedDocument(Strict):
    """A document with its active revision."""

    name: str = Field(min_length=1, max_length=400)
    parent: str | None = Field(max_length=400)
    title: Line
    description: Line
    tags: dict[str, str] = Field(max_length=32)
    created_at: Moment
    sha256: Sha256
    size: Count
    media_type: str | None = Field(max_length=200, pattern=r"^[\w.+-]+/[\w.+-]+$")
    reading: Sha256 | None
    pages: Count | None
    duration: Annotated[float, Field(ge=0)] | None = None
    tokens: Count | None
    language: str | None = Field(pattern=r"^[a-z]{2,3}$")
    warnings: list[Line] = Field(max_length=1000)
    report: PackedReport | None
    columns: PackedColumns | None


class PackedLocator(Strict):
    heading_path: list[Line] = Field(max_length=50)
    page: Count | None
    anchor: Line | None
    unit: Unit
    label: Line | None
    rows: tuple[Count, Count] | None
    seconds: Annotated[float, Field(ge=0)] | None
    picture: Sha256 | None = None
    described_by: Line | None = None


class PackedPart(Strict):
    kind: BlockKind
    start: Count
    end: Count
    header_rows: Count
    level: Count
    page: Count | None
    label: Line | None
    seconds: Annotated[float, Field(ge=0)] | None = None
    picture: Sha256 | None = None
    described_by: Line | None = None


class PackedPassage(Strict):
    """A passage; `document` is the index of its document in the list, from 0."""

    document: Count
    start: Count
    end: Count
    text: Text
    context: Text
    tokens: Count
    locator: PackedLocator
    parts: list[PackedPart] = Field(max_length=100_000)
    embedded_text: Text


class Manifest(Strict):
    """What the pack is. `entries` maps the name of every other entry to its sha256."""

    format: Literal["fontanel-pack"]
    version: Literal[1]
    name: str = Field(min_length=1, max_length=120)
    description: str = Field(max_length=2000)
    embedder: str | None = Field(max_length=200)
    splitting: PackedSplitting
    documents: Count
    passages: Count
    made_at: Moment
    entries: dict[str, Sha256] = Field(max_length=2 * MAX_DOCUMENTS + 10)
