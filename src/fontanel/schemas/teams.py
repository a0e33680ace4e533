"""Sign-in, teams, members and keys."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from fontanel.schemas.base import Model, Name, RoleName

Email = Annotated[
    str,
    StringConstraints(
        strip_whitespace=True, to_lower=True, pattern=r"^[^@\s]+@[^@\s]+$", max_length=200
    ),
]
Password = Annotated[str, StringConstraints(min_length=10, max_length=200)]


class SignInIn(Model):
    email: Email = Field(examples=["varda@skerrow.example"])
    password: Annotated[str, StringConstraints(max_length=200)]


class Membership(Model):
    team_id: str
    slug: str
    name: str
    role: RoleName


class SessionOut(Model):
    """Who is signed in, or which key is used, and what they have access to."""

    kind: Literal["person", "key"]
    name: str
    email: str | None = None
    operator: bool = False
    teams: list[Membership]
    sign_ins: int = Field(0, description="Where the person is signed in, this place included.")


class PasswordChange(Model):
    current: Annotated[str, StringConstraints(max_length=200)]
    new: Password


class SignInOut(Model):
    """A place where a person is signed in."""

    id: str
    address: str
    agent: str = Field(description="The browser or program, as it calls itself.")
    created_at: datetime
    expires_at: datetime
    current: bool


class PasswordLinkCreated(Model):
    """A link that works once, shown this once."""

    email: str
    url: str
    secret: str
    expires_at: datetime


class PasswordSet(Model):
    secret: Annotated[str, StringConstraints(min_length=10, max_length=100)]
    new: Password


class TeamIn(Model):
    name: Name = Field(examples=["Marine Operations"])


class TeamChange(Model):
    """What is left out stays."""

    name: Name | None = None
    time_zone: str | None = Field(
        None, max_length=60, description="Cron lines are in it.", examples=["Europe/Berlin"]
    )
    kept_days: int | None = Field(
        None, ge=1, le=3650, description="Days that conversations are kept; null for unlimited."
    )
    records_kept_days: int | None = Field(
        None,
        ge=1,
        le=3650,
        description="Days that records of how answers were made are kept; null for unlimited.",
    )
    originals_kept_days: int | None = Field(
        None,
        ge=1,
        le=3650,
        description=(
            "Days that originals of earlier revisions are kept after they were replaced; null for"
            " unlimited."
        ),
    )
    monthly_tokens: int | None = Field(
        None, ge=0, description="Tokens of models a month; null for no bound."
    )
    show_askers: bool | None = Field(
        None, description="Whether editors see who asked a question that was not answered well."
    )


class TeamOut(Model):
    id: str
    slug: str
    name: str
    time_zone: str
    kept_days: int | None = None
    records_kept_days: int | None = None
    originals_kept_days: int | None = None
    monthly_tokens: int | None = None
    show_askers: bool = False
    source_folders: list[str] | None = Field(
        None, description="Folders that its sources may read; null: all that the service allows."
    )
    source_networks: list[str] | None = Field(
        None,
        description=(
            "Private networks that its sources may reach; null: all that the service allows."
        ),
    )
    created_at: datetime
    version: int


class GrantsIn(Model):
    """What a team's sources may read, of what the service allows; null: all of it."""

    source_folders: (
        list[Annotated[str, StringConstraints(min_length=1, max_length=1000)]] | None
    ) = Field(max_length=100)
    source_networks: (
        list[Annotated[str, StringConstraints(min_length=1, max_length=100)]] | None
    ) = Field(max_length=100)


class InvitationIn(Model):
    email: Email = Field(examples=["varda@skerrow.example"])
    name: Name
    role: RoleName = "reader"
    expires_in_days: int = Field(7, ge=1, le=30)


class InvitationOut(Model):
    """An invitation that nobody has accepted yet."""

    id: str
    email: str
    name: str
    role: RoleName
    invited_by: str
    created_at: datetime
    expires_at: datetime


class InvitationCreated(InvitationOut):
    """The link, shown this once; both are null when it was sent by e-mail."""

    url: str | None = None
    secret: str | None = None


LinkSecret = Annotated[str, StringConstraints(min_length=10, max_length=100)]


class InvitationOpen(Model):
    secret: LinkSecret


class InvitationDetails(Model):
    """What somebody is invited to."""

    team: str
    role: RoleName
    email: str
    name: str
    invited_by: str
    expires_at: datetime


class InvitationAccept(Model):
    """The acceptance of an invitation, by the person signed in, or with a new account."""

    secret: LinkSecret
    name: Name | None = None
    password: Password | None = None


class WaysToSignIn(Model):
    """How people sign in."""

    provider: str | None
    """The name of the provider of single sign-on; None without one."""
    passwords: Literal["everybody", "operators"]


class MemberChange(Model):
    role: RoleName


class MemberOut(Model):
    id: str
    email: str
    name: str
    role: RoleName
    created_at: datetime


class KeyIn(Model):
    name: Name = Field(examples=["nightly upload"])
    role: RoleName = "reader"
    kbs: list[str] | None = Field(
        None, description="Ids or short names of the only knowledge bases it may reach."
    )
    expires_in_days: int | None = Field(None, ge=1, le=3650)
    requests_per_minute: int | None = Field(
        None, ge=1, le=1_000_000, description="Its own limit; null for that of the team's quota."
    )


class KeyOut(Model):
    id: str
    name: str
    start: str = Field(description="The first characters of the key, to tell keys apart.")
    role: RoleName
    kb_ids: list[str] | None
    made_by: str
    by_operator: bool = Field(description="Made by an operator who is not a member of the team.")
    requests_per_minute: int | None = Field(None, description="Its own limit.")
    created_at: datetime
    expires_at: datetime | None
    last_used_at: datetime | None


class KeyCreated(KeyOut):
    secret: str = Field(description="The key itself; never shown again.")


class Health(Model):
    status: Literal["ok"]
    version: str
    embedder: str | None = Field(description="The embedder in use; null for keyword search only.")
    evidence: str | None = Field(
        None, description="The evidence model in use; null if its directory has none."
    )
    note: str | None = None
    waiting: int = Field(description="Documents that wait to be indexed.")
