"""Desks: their settings and versions, links, models, the record of an answer, feedback, use."""

from __future__ import annotations

import re
from datetime import datetime
from typing import Annotated, Any, Literal
from urllib.parse import urlsplit

from pydantic import Field, StringConstraints, field_validator

from fontanel.schemas.answers import AnswerOut, FeedbackOut, OutcomeName, TurnOut, TurnStateName
from fontanel.schemas.base import LocatorOut, Model, Name, Tags

GroundingName = Literal["only_sources", "sources_first"]
LengthName = Literal["short", "medium", "long"]
LayoutName = Literal["auto", "prose", "steps", "list", "table"]
UnsupportedName = Literal["mark", "remove"]
AudienceName = Literal["members", "link"]
ColourName = Literal["harbour", "moss", "rust", "sand", "slate", "ink"]
#: What may stand in a policy: nothing that could end one directive and begin another.
FRAME_ORIGIN = re.compile(r"https?://[a-z0-9](?:[a-z0-9.-]{0,251}[a-z0-9])?(?::[0-9]{1,5})?")
Line = Annotated[str, StringConstraints(strip_whitespace=True, max_length=300)]


class DeskKb(Model):
    """A knowledge base that a desk answers from: its id or short name, what it is to be used for, and the tags that its documents
    must have."""

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
    symbol: str = Field(
        "", max_length=4, description="A letter or a sign that stands for the desk."
    )
    colour: ColourName = "harbour"
    kbs: list[DeskKb] = Field(default_factory=list, max_length=20)
    grounding: GroundingName = Field(
        "only_sources",
        description="`sources_first` lets a model answer from what it knows, saying so.",
    )
    evidence_needed: float = Field(
        0.4, ge=0, le=1, description="Below this likelihood a question is declined."
    )
    passages: int = Field(16, ge=1, le=40)
    documents: int | None = Field(
        None, ge=1, le=40, description="Documents that an answer may draw on at most."
    )
    length: LengthName = "medium"
    layout: LayoutName = "auto"
    language: Annotated[str, StringConstraints(pattern="^[a-z]{2}$")] | None = Field(
        None, description="None: the asker's."
    )
    unsupported: UnsupportedName = Field(
        "mark", description="What becomes of statements that their sources do not carry."
    )
    link_tags: list[Line] = Field(
        default_factory=list,
        max_length=5,
        description="Tags of documents that hold links to offer.",
    )
    model: str | None = Field(
        None, description="The name of a model; None for the built-in composer."
    )
    temperature: float = Field(0.0, ge=0, le=2)
    context_tokens: int = Field(
        1200, ge=200, le=16_000, description="What a model is sent of the sources, at most."
    )
    answer_tokens: int = Field(500, ge=50, le=4000)
    audience: AudienceName = "members"
    frame_origins: list[Line] = Field(
        default_factory=list,
        max_length=10,
        description="Sites that may show the chat page in a frame.",
    )

    @field_validator("frame_origins")
    @classmethod
    def _origins(cls, value: list[str]) -> list[str]:
        return [frame_origin(origin) for origin in value]


def frame_origin(text: str) -> str:
    """An origin as it may stand in a Content-Security-Policy: scheme, host in ASCII, port. Raises ValueError."""
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
    """`published` is the version that serves; `changed` tells whether the draft differs from it."""

    id: str
    slug: str
    name: str
    draft: DeskSettings
    published: DeskVersionOut | None
    changed: bool
    links: int
    created_at: datetime
    changed_at: datetime
    version: int


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


class SettingDifference(Model):
    """A setting that two versions have differently; texts come with their lines compared in `lines` (" ", "-", "+")."""

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
        min_length=1, max_length=2000, examples=["When may a vessel leave the outer berth?"]
    )
    conversation_id: str | None = None
    draft: bool = Field(False, description="For editors: ask the draft.")
    version: int | None = Field(None, description="For editors: ask this published version.")
    settings: dict[str, Any] | None = Field(
        None, description="For editors: settings that differ for this question only."
    )


class DeskLinkIn(Model):
    name: Name
    per_minute: int = Field(
        10, ge=1, le=600, description="Questions a minute that one guest may ask."
    )
    expires_in_days: int | None = Field(None, ge=1, le=3650)


class DeskLinkOut(Model):
    id: str
    name: str
    start: str
    per_minute: int
    created_at: datetime
    expires_at: datetime | None
    revoked_at: datetime | None
    last_used_at: datetime | None


class DeskLinkCreated(DeskLinkOut):
    """The address holds the link's secret, and is given this once."""

    url: str
    secret: str


class ConversationChange(Model):
    title: Name


class FeedbackIn(Model):
    """What an asker thinks of an answer, or with `citation` of one of its citations. Sent again, it replaces what was said before."""

    helpful: bool
    citation: int = Field(0, ge=0)
    reason: Literal[
        "",
        "wrong",
        "incomplete",
        "outdated",
        "unclear",
        "wrong_source",
        "should_have_answered",
        "other",
    ] = ""
    comment: str = Field("", max_length=2000)


class ContextOut(Model):
    """A quote in its place: characters [quote_start, quote_end) of `text`, which `begins` or `ends` with the document or is cut."""

    title: str
    locator: LocatorOut
    text: str
    quote_start: int
    quote_end: int
    begins: bool
    ends: bool


class StepOut(Model):
    """A step of an answer's way: seconds since the question until it began, how long it took, and what it found."""

    name: str
    began: float
    seconds: float
    details: dict[str, Any]


class PromptMessage(Model):
    role: str
    content: str


class ChangedCitation(Model):
    """A citation whose document has changed since: `state` is `changed` or `gone`."""

    citation: int
    document_id: str
    title: str
    state: Literal["changed", "gone"]


class RecordOut(TurnOut):
    """Everything about how an answer came about."""

    conversation_id: str
    asker: str
    desk_id: str | None
    desk_version: int | None
    settings: dict[str, Any] | None
    editions: dict[str, str] | None
    steps: list[StepOut]
    prompt: list[PromptMessage]
    raw: str
    tokens_read: int
    tokens_written: int
    cost: float
    changed_since: list[ChangedCitation]


class AgainOut(Model):
    """A question asked again as of now, beside its first answer: lines that stay (" "), went ("-") and came ("+")."""

    before: TurnOut
    now: AnswerOut
    same_text: bool
    lines: list[tuple[str, str]]
    citations_gone: list[str]
    citations_new: list[str]
    evidence_gone: list[str]
    evidence_new: list[str]


class AnswerSummary(Model):
    """A turn in a list of what a desk was asked."""

    id: str
    question: str
    asker: str
    state: TurnStateName
    outcome: OutcomeName
    sufficiency: float
    composer: str
    desk_version: int | None
    weak: int
    feedback: list[FeedbackOut]
    seconds: dict[str, float]
    created_at: datetime


class ModelIn(Model):
    """A model server that speaks the chat-completions protocol. Prices are for a million tokens."""

    name: Name
    url: str = Field(
        max_length=500,
        examples=["http://127.0.0.1:8471/v1"],
        description="What `/chat/completions` is added to.",
    )
    remote: str = Field("", max_length=200, description="The model's name at its server.")
    secret: str | None = Field(
        None,
        max_length=500,
        pattern=r"^[\x21-\x7e]*$",
        description="Sent as a bearer token; kept encrypted, never given back.",
    )
    price_read: float = Field(0.0, ge=0)
    price_written: float = Field(0.0, ge=0)
    currency: Annotated[str, StringConstraints(pattern="^[A-Z]{3}$")] = "EUR"
    teams: list[str] | None = Field(
        None, description="Teams that may use it, by short name; None for all."
    )
    seconds: float = Field(60.0, gt=0, le=600, description="How long it may be silent.")
    tries: int = Field(3, ge=1, le=6)
    enabled: bool = True

    @field_validator("url")
    @classmethod
    def _address(cls, value: str) -> str:
        parts = urlsplit(value)
        if parts.scheme not in ("http", "https") or not parts.hostname or parts.username:
            raise ValueError(
                "write the address as https://host/v1, without a name or password in it"
            )
        return value.rstrip("/")


class ModelChange(Model):
    url: str | None = None
    remote: str | None = None
    secret: str | None = Field(None, max_length=500, pattern=r"^[\x21-\x7e]*$")
    price_read: float | None = Field(None, ge=0)
    price_written: float | None = Field(None, ge=0)
    currency: Annotated[str, StringConstraints(pattern="^[A-Z]{3}$")] | None = None
    teams: list[str] | None = None
    seconds: float | None = Field(None, gt=0, le=600)
    tries: int | None = Field(None, ge=1, le=6)
    enabled: bool | None = None

    _address = field_validator("url")(
        lambda value: value if value is None else ModelIn._address(value)
    )


class ModelOut(Model):
    """`error` is what the last check or use found wrong; None when it answered."""

    id: str
    name: str
    url: str
    remote: str
    has_secret: bool
    price_read: float
    price_written: float
    currency: str
    teams: list[str] | None
    seconds: float
    tries: int
    enabled: bool
    error: str | None
    checked_at: datetime | None
    version: int


class ModelName(Model):
    """A model as a team sees it."""

    name: str
    currency: str
    price_read: float
    price_written: float
    error: str | None


class ModelCheck(Model):
    """What asking a model one short question gave."""

    works: bool
    error: str | None
    first_seconds: float | None
    seconds: float
    text: str


class UsageRow(Model):
    """What was used by one desk, kb, member or day, as `by` names it. `key` is its id, `name` what people call it."""

    key: str
    name: str
    questions: int
    answered: int
    declined: int
    helpful: int
    not_helpful: int
    tokens_read: int
    tokens_written: int
    cost: float
    median_seconds: float | None
    p95_seconds: float | None


class BudgetOut(Model):
    """The team's monthly budget of tokens. `state` is `none`, `fine`, `low` from 80%, or `spent`."""

    monthly_tokens: int | None
    used: int
    share: float | None
    state: Literal["none", "fine", "low", "spent"]
    since: datetime


class TeamUsage(Model):
    """What a team used, for operators; the row's `key` is the team's slug."""

    used: UsageRow
    budget: BudgetOut


class UsageOut(Model):
    by: Literal["day", "desk", "kb", "member", "composer"]
    rows: list[UsageRow]
    total: UsageRow
    budget: BudgetOut
