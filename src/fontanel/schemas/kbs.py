"""Knowledge bases."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field, model_validator

from fontanel.facts import OutdatedRanking, SplitSettings, TableMode
from fontanel.schemas.base import Model, Name

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
    accepts_proposed_documents: bool | None = Field(
        None, description="Whether programs may propose documents, for editors to accept."
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
    accepts_proposed_documents: bool
    proposed_documents: int = Field(description="Those that wait for a decision.")
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
