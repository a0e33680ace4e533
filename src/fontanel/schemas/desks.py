"""Desks: settings, versions, links, models, records of answers, feedback, usage."""

from __future__ import annotations

import re
from datetime import datetime
from typing import Annotated, Any, Literal
from urllib.parse import urlsplit

from pydantic import Field, StringConstraints, field_validator

from fontanel.facts import APPROVED_NEEDED
from fontanel.schemas.base import Model, Name, Tags
from fontanel.schemas.trials import ShareOut

GroundingName = Literal["only_sources", "sources_first"]
LengthName = Literal["short", "medium", "long"]
LayoutName = Literal["auto", "prose", "steps", "list", "table"]
UnsupportedName = Literal["mark", "remove"]
FlaggedName = Literal["serve", "withhold_contradicted", "withhold"]
AudienceName = Literal["members", "link"]
ColourName = Literal["harbour", "moss", "rust", "sand", "slate", "ink"]
#: Allowed in a policy: nothing that could end one directive and start another.
FRAME_ORIGIN = re.compile(r"https?://[a-z0-9](?:[a-z0-9.-]{0,251}[a-z0-9])?(?::[0-9]{1,5})?")
Line = Annotated[str, StringConstraints(strip_whitespace=True, max_length=300)]


class DeskKb(Model):
    """A knowledge base of a desk.

    Its id or slug, its use, and its documents' required tags.
    """

    kb: str
    use_for: Line = ""
    tags: Tags = Field(default_factory=dict)


class DeskSettings(Model):
    """Everything that decides how a desk answers. Published as a whole."""

    purpose: str = Field(
        "", max_length=500, examples=["Answers crews' questions about berths, pilots and weather."]
    )
    instructions: str = Field(
        "",
        max_length=8000,
        description="Told to the model; the built-in composer quotes and needs none.",
    )
    greeting: str = Field("", max_length=500)
    first_questions: list[Line] = Field(default_factory=list, max_length=8)
    symbol: str = Field("", max_length=4, description="A letter or symbol of the desk.")
    colour: ColourName = "harbour"
    kbs: list[DeskKb] = Field(default_factory=list, max_length=20)
    grounding: GroundingName = Field(
        "only_sources",
        description="`sources_first` lets a model answer from what it knows, saying so.",
    )
    evidence_needed: float = Field(
        0.3, ge=0, le=1, description="Below this likelihood a question is declined."
    )
    approved_needed: float = Field(
        APPROVED_NEEDED,
        ge=0,
        le=1,
        description="From this likelihood an approved answer is served; 1: for equal wording only.",
    )
    flagged: FlaggedName = Field(
        "withhold_contradicted",
        description="What happens to approved answers whose text has changed since.",
    )
    passages: int = Field(16, ge=1, le=40)
    documents: int | None = Field(
        None, ge=1, le=40, description="The maximum number of documents in an answer."
    )
    length: LengthName = "medium"
    layout: LayoutName = "auto"
    language: Annotated[str, StringConstraints(pattern="^[a-z]{2}$")] | None = Field(
        None, description="None: the asker's."
    )
    unsupported: UnsupportedName = Field(
        "mark", description="What happens to statements that their sources do not support."
    )
    link_tags: list[Line] = Field(
        default_factory=list,
        max_length=5,
        description="Tags of documents that contain links to offer.",
    )
    model: str | None = Field(
        None, description="The name of a model; None for the built-in composer."
    )
    temperature: float = Field(0.0, ge=0, le=2)
    context_tokens: int = Field(
        1200, ge=200, le=16_000, description="The maximum tokens of sources sent to a model."
    )
    answer_tokens: int = Field(500, ge=50, le=4000)
    trial_set: str | None = Field(
        None, description="The question set that a draft has to pass before it is published."
    )
    max_losses: int = Field(
        0,
        ge=0,
        le=1000,
        description="How many questions a draft may answer worse than the published version.",
    )
    audience: AudienceName = "members"
    frame_origins: list[Line] = Field(
        default_factory=list,
        max_length=10,
        description="Sites that may show the chat page in a frame.",
    )
    signed_visitors: bool = Field(
        default=False,
        description="Guests need an identity that the embedding site signs with the visitor key.",
    )

    @field_validator("frame_origins")
    @classmethod
    def _origins(cls, value: list[str]) -> list[str]:
        return [frame_origin(origin) for origin in value]


def frame_origin(text: str) -> str:
    """Return an origin for a Content-Security-Policy: scheme, ASCII host, port.

    Raises:
        ValueError: it is not one.
    """
    try:
        parts = urlsplit(text.rstrip("/"))
        host, port = (parts.hostname or "").encode("idna").decode(), parts.port
    except (ValueError, UnicodeError) as error:
        raise ValueError(
            f"{text[:100]!r} is not an origin; write it as https://intranet.example"
        ) from error
    origin = f"{parts.scheme}://{host}" + (f":{port}" if port is not None else "")
    plain = not (parts.path or parts.query or parts.fragment or parts.username or parts.password)
    if not plain or not FRAME_ORIGIN.fullmatch(origin):
        raise ValueError(f"{text[:100]!r} is not an origin; write it as https://intranet.example")
    return origin


class DeskIn(Model):
    name: Name
    settings: DeskSettings = Field(default_factory=DeskSettings)


class DeskChange(Model):
    """What changes of the draft; settings that are not named stay."""

    name: Name | None = None
    settings: dict[str, Any] | None = None


class DeskVersionOut(Model):
    number: int
    note: str
    author: str
    settings: DeskSettings
    created_at: datetime


class DeskOut(Model):
    """A desk; `changed` says whether the draft differs from `published`."""

    id: str
    slug: str
    name: str
    draft: DeskSettings
    published: DeskVersionOut | None
    second_version: int | None
    second_share: int = Field(description="Per cent of the askers who get the second version.")
    changed: bool
    links: int
    visitor_key: bool = Field(description="Whether there is a key that visitors are signed with.")
    flagged: int = Field(
        description="Approved answers of its knowledge bases whose text has changed."
    )
    created_at: datetime
    changed_at: datetime
    version: int


class VisitorKey(Model):
    """The key that visitors' identities are signed with, shown once; `audience` is their `aud`."""

    key: str
    audience: str


class SecondVersionIn(Model):
    """A version that some askers get instead of the published one."""

    version: int = Field(ge=1, le=1_000_000)
    share: int = Field(ge=1, le=99, description="Per cent of the askers.")


class EstimateOut(Model):
    """A mean or a median, with its 95 % interval."""

    value: float
    low: float
    high: float


class VersionFigures(Model):
    """What one of two published versions was asked, and with what success."""

    version: int
    askers: int
    questions: int
    declined: ShareOut
    helpful: ShareOut = Field(description="Of the answers with feedback.")
    cost: EstimateOut | None = Field(description="The mean of an answer.")
    tokens: EstimateOut | None = Field(description="The mean of an answer.")
    seconds: EstimateOut | None = Field(description="The median of an answer.")
    p95_seconds: float | None


class SecondVersionOut(Model):
    share: int
    since: datetime
    first: VersionFigures
    second: VersionFigures


class PublicDesk(Model):
    """A desk as chat users see it."""

    id: str
    slug: str
    team: str
    name: str
    purpose: str
    greeting: str
    first_questions: list[str]
    symbol: str
    colour: ColourName
    frame_origins: list[str]


class PublishIn(Model):
    note: str = Field("", max_length=500)
    close_links: bool = Field(
        default=False, description="Publish even if links of guests stop working."
    )


class SettingDifference(Model):
    """A setting that differs between versions; `lines` compares texts (" ", "-", "+")."""

    setting: str
    before: Any
    after: Any
    lines: list[tuple[str, str]] | None = None


class DeskComparison(Model):
    before: int | None = Field(description="None is the draft.")
    after: int | None
    differences: list[SettingDifference]


class DeskAskIn(Model):
    question: str = Field(
        min_length=1,
        max_length=2000,
        examples=["What is the wind limit for leaving the outer berth?"],
    )
    conversation_id: str | None = None
    draft: bool = Field(default=False, description="For editors: ask the draft.")
    version: int | None = Field(None, description="For editors: ask this published version.")
    settings: dict[str, Any] | None = Field(
        None, description="For editors: settings that differ for this question only."
    )


class DeskLinkIn(Model):
    name: Name
    per_minute: int = Field(
        10, ge=1, le=600, description="Questions a minute from one guest, or one address."
    )
    expires_in_days: int | None = Field(None, ge=1, le=3650)


class DeskLinkOut(Model):
    id: str
    name: str
    start: str
    state: Literal["open", "revoked", "expired", "not_published", "members_only"] = Field(
        description="Whether it works; if not, why."
    )
    per_minute: int
    created_at: datetime
    expires_at: datetime | None
    revoked_at: datetime | None
    last_used_at: datetime | None


class DeskLinkCreated(DeskLinkOut):
    """A new link; its address contains the secret, and is shown only once."""

    url: str
    secret: str
