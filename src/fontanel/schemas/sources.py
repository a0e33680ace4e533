"""Sources, their runs, their freshness, and documents that programs send."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints, model_validator

from fontanel.schemas.base import Model, Name, Tags

OutcomeName = Literal[
    "added", "changed", "unchanged", "moved", "removed", "skipped", "failed", "missing"
]
SyncStateName = Literal["waiting", "running", "held", "done", "failed", "ended"]
FreshnessName = Literal["fresh", "late", "unscheduled", "paused", "new"]
CredentialText = Annotated[str, StringConstraints(max_length=10_000)]


class KindOut(Model):
    """A kind of source: its forms are JSON Schemas."""

    name: str
    title: str
    description: str
    settings: dict[str, Any]
    credentials: dict[str, Any]
    pushed: bool = Field(description="Documents are sent by programs; there is nothing to run.")
    watchable: bool = Field(description="Changes can be noticed immediately, by file events.")


class TagRule(Model):
    """Tags for the items whose path fits a pattern."""

    pattern: Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=300)]
    tags: Tags = Field(min_length=1)


class _Care(Model):
    tag_rules: list[TagRule] = Field([], max_length=50)
    every_minutes: int | None = Field(
        None, ge=1, le=60 * 24 * 31, description="Run at this interval."
    )
    cron: str | None = Field(
        None,
        max_length=100,
        description="Run by a cron line in the team's time zone.",
        examples=["15 6 * * 1-5"],
    )
    target_minutes: int = Field(
        15, ge=1, le=60 * 24 * 31, description="Changes should be answerable within this time."
    )
    guard_share: float = Field(
        0.2, ge=0, le=1, description="Hold a run that would remove or fail more than this share."
    )
    guard_min: int = Field(
        10, ge=1, le=1_000_000, description="Never hold a run that removes fewer items."
    )


class SourceIn(_Care):
    name: Name = Field(examples=["Notices"])
    kind: str = Field(examples=["folder"])
    settings: dict[str, Any] = Field(
        description="As the kind's schema says.", examples=[{"path": "/srv/notices"}]
    )
    credentials: dict[str, CredentialText] | None = Field(
        None, description="Stored encrypted, never returned."
    )
    folder: str | None = Field(
        None, max_length=100, description="The folder of its documents in the knowledge base."
    )
    paused: bool = Field(
        default=False,
        description="Runs nothing until it is resumed; its credentials can be entered until then.",
    )
    adopt: bool = Field(
        default=False,
        description=(
            "Documents that are in its folder already, and of no other source, become its own: its"
            " first run updates those that it finds and removes the rest."
        ),
    )


class SourceChange(Model):
    """Changes of a source; fields left out stay, `credentials` replaces all of them."""

    name: Name | None = None
    settings: dict[str, Any] | None = None
    credentials: dict[str, CredentialText] | None = None
    tag_rules: list[TagRule] | None = None
    every_minutes: int | None = Field(None, ge=1, le=60 * 24 * 31)
    cron: str | None = Field(None, max_length=100)
    target_minutes: int | None = Field(None, ge=1, le=60 * 24 * 31)
    guard_share: float | None = Field(None, ge=0, le=1)
    guard_min: int | None = Field(None, ge=1)
    paused: bool | None = None


class CheckIn(Model):
    kind: str
    settings: dict[str, Any]
    credentials: dict[str, CredentialText] | None = None


class ListedOut(Model):
    id: str
    name: str
    size: int | None
    changed_at: datetime | None


class SkippedOut(Model):
    id: str
    reason: str


class SourceCheck(Model):
    """The preview of a source; nothing is stored."""

    taken: int = Field(description="Items that would be added.")
    bytes: int | None
    sample: list[ListedOut]
    skipped: dict[str, int] = Field(description="Reason -> number of items.")
    skipped_sample: list[SkippedOut]
    complete: bool = Field(description="False when there is more than was looked at.")
    seconds: float


class SyncOut(Model):
    """A run of a source.

    `indexing` counts its documents that are still being processed; words, passages and `embedded`
    passages are those of its documents, as far as known; what was not embedded had its vector
    already.
    """

    id: str
    source_id: str
    cause: str
    state: SyncStateName
    stage: str
    held_reason: str | None
    error: str | None
    seen: int
    expected: int = Field(description="The number of items known before.")
    unchanged: int
    added: int
    changed: int
    moved: int
    removed: int
    skipped: int
    failed: int
    bytes: int
    skip_reasons: dict[str, int]
    indexing: int
    words: int
    passages: int
    embedded: int
    tokens_used: int = Field(
        description="Tokens of registered embedders and models for its documents."
    )
    cost: float
    seconds: dict[str, float] = Field(
        description=(
            "By stage: `taking` (listing and fetching) from start to end; what the documents took"
            " then, added up: `read`, `split`, `describe`, `words`, `embed`."
        )
    )
    created_at: datetime
    started_at: datetime | None
    finished_at: datetime | None


class SyncItemOut(Model):
    """What a run did with one item, and how its document is now."""

    id: str
    outcome: OutcomeName
    reason: str | None
    document_id: str | None
    name: str | None
    state: str | None
    error: str | None
    bytes: int
    words: int | None
    passages: int | None
    embedded: int | None
    seconds: dict[str, float]


class FreshnessOut(Model):
    """How soon changes at the source were answerable, over the last seven days."""

    state: FreshnessName
    target_minutes: int
    as_of: datetime | None = Field(description="Changes up to this moment have been seen.")
    late_since: datetime | None
    pending: int = Field(description="Changes that were seen and are not answerable yet.")
    measured: int
    within: float | None = Field(description="Share of the measured changes within the target.")
    median_seconds: float | None
    worst_seconds: float | None


class SourceOut(Model):
    id: str
    kb_id: str
    name: str
    kind: str
    folder: str
    settings: dict[str, Any]
    credentials: list[str] = Field(
        description="Which credentials are set; their values are never given back."
    )
    tag_rules: list[TagRule]
    every_minutes: int | None
    cron: str | None
    target_minutes: int
    guard_share: float
    guard_min: int
    paused: bool
    next_run_at: datetime | None
    failing_since: datetime | None
    error: str | None
    documents: int
    freshness: FreshnessOut
    recent: list[SyncOut] = Field(description="The last runs, newest first.")
    created_at: datetime
    changed_at: datetime
    version: int


class SourceFreshness(Model):
    """A source in an overview."""

    team: str
    kb_id: str
    kb: str
    source_id: str
    source: str
    kind: str
    documents: int
    failing_since: datetime | None
    error: str | None
    freshness: FreshnessOut
    recent: list[SyncOut] = Field(description="Its last runs, newest first.")


class SignalSecret(Model):
    """The secret of signals, shown once.

    Signals follow the Standard Webhooks specification.
    """

    secret: str
    path: str


class PushedIn(Model):
    """A document that a program sends: text, or base64 bytes with a name and ending."""

    id: Annotated[str, StringConstraints(min_length=1, max_length=300)] = Field(
        description="The program's own id."
    )
    name: str | None = Field(None, max_length=300, description="Default: the id.")
    title: str | None = Field(None, max_length=300)
    text: str | None = Field(None, description="Markdown or plain text.")
    content: str | None = Field(None, description="A file's bytes in base64.")
    link: str = Field("", max_length=2000)
    tags: Tags = {}

    @model_validator(mode="after")
    def _one_of_two(self) -> PushedIn:
        if (self.text is None) == (self.content is None):
            raise ValueError("give either text or content")
        return self


class PushIn(Model):
    documents: list[PushedIn] = Field([], max_length=500)
    remove: list[str] = Field([], max_length=5000, description="Ids of documents that are gone.")


class PushedOut(Model):
    id: str
    outcome: OutcomeName
    reason: str | None = None
    document_id: str | None = None


class PushOut(Model):
    """What became of each. The same request again changes nothing."""

    sync: str
    items: list[PushedOut]
