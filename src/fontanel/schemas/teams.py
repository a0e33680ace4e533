"""Sign-in, teams, members and keys."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from fontanel.schemas.base import Model, Name, RoleName

Email = Annotated[
    str, StringConstraints(strip_whitespace=True, to_lower=True, pattern=r"^[^@\s]+@[^@\s]+$", max_length=200)
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
    """Who is signed in, or which key is used, and what they may reach."""

    kind: Literal["person", "key"]
    name: str
    email: str | None = None
    operator: bool = False
    teams: list[Membership]


class PasswordChange(Model):
    current: Annotated[str, StringConstraints(max_length=200)]
    new: Password


class TeamIn(Model):
    name: Name = Field(examples=["Marine Operations"])


class TeamChange(Model):
    """What is left out stays."""

    name: Name | None = None
    time_zone: str | None = Field(None, max_length=60, description="Cron lines are in it.", examples=["Europe/Berlin"])
    kept_days: int | None = Field(None, ge=1, le=3650, description="Days that conversations are kept; null for good.")
    monthly_tokens: int | None = Field(None, ge=0, description="Tokens of models a month; null for no bound.")


class TeamOut(Model):
    id: str
    slug: str
    name: str
    time_zone: str
    kept_days: int | None = None
    monthly_tokens: int | None = None
    created_at: datetime
    version: int


class MemberIn(Model):
    """A person new to the service gets a password, which the answer shows once."""

    email: Email
    name: Name
    role: RoleName = "reader"


class MemberChange(Model):
    role: RoleName


class MemberOut(Model):
    id: str
    email: str
    name: str
    role: RoleName
    created_at: datetime


class MemberMade(MemberOut):
    password: str | None = Field(None, description="The new person's password; never shown again.")


class KeyIn(Model):
    name: Name = Field(examples=["nightly upload"])
    role: RoleName = "reader"
    kbs: list[str] | None = Field(None, description="Ids or short names of the only knowledge bases it may reach.")
    expires_in_days: int | None = Field(None, ge=1, le=3650)


class KeyOut(Model):
    id: str
    name: str
    start: str = Field(description="The first characters of the key, to tell keys apart.")
    role: RoleName
    kb_ids: list[str] | None
    created_at: datetime
    expires_at: datetime | None
    last_used_at: datetime | None


class KeyMade(KeyOut):
    secret: str = Field(description="The key itself; never shown again.")


class Health(Model):
    status: Literal["ok"]
    version: str
    embedder: str | None = Field(description="The embedder in use; None when the service works by words alone.")
    note: str | None = None
    waiting: int = Field(description="Documents that wait to be indexed.")
