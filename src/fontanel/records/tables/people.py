"""People, teams, and how they sign in."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import (
    ForeignKey,
    UniqueConstraint,
)
from sqlalchemy.orm import Mapped, mapped_column, relationship

from fontanel.records.tables.base import Base, Word, now, of_team


class Role(StrEnum):
    READER = "reader"
    EDITOR = "editor"
    OWNER = "owner"


class Person(Base):
    __tablename__ = "people"

    id: Mapped[str] = mapped_column(primary_key=True)
    email: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    password_hash: Mapped[str]
    operator: Mapped[bool] = mapped_column(default=False)
    #: Who they are at a provider of single sign-on: its address and their name there.
    subject: Mapped[str | None] = mapped_column(unique=True)
    operator_by_rule: Mapped[bool] = mapped_column(default=False, server_default="0")
    created_at: Mapped[datetime] = mapped_column(default=now)


class SignIn(Base):
    """A person's session in the console, found by the hash of its cookie.

    `id` identifies it to the person; `address` and `agent` are where it was opened.
    """

    __tablename__ = "sign_ins"

    token_hash: Mapped[str] = mapped_column(primary_key=True)
    id: Mapped[str] = mapped_column(server_default="")
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"), index=True)
    address: Mapped[str] = mapped_column(default="", server_default="")
    agent: Mapped[str] = mapped_column(default="", server_default="")
    #: The session at the provider that it was opened with.
    provider_session: Mapped[str | None] = mapped_column(index=True)
    created_at: Mapped[datetime] = mapped_column(default=now)
    expires_at: Mapped[datetime]


class PasswordLink(Base):
    """A one-time link to set a new password, created by an operator; stored hashed."""

    __tablename__ = "password_links"

    secret_hash: Mapped[str] = mapped_column(primary_key=True)
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"), index=True)
    expires_at: Mapped[datetime]


class Team(Base):
    """A team.

    `kept_days` is the retention of conversations after their last question, `records_kept_days`
    that of how answers were made, `originals_kept_days` that of originals of earlier revisions
    after they were replaced; None for unlimited. `monthly_tokens` is the team's budget of model
    tokens in a calendar month. `source_folders` and `source_networks` are what its sources may read
    of what the service allows; None (teams older than grants) for all of it. With `show_askers`
    editors see who asked. `quotas` are its own limits by name, which replace the defaults;
    `quota_states` has those it was warned of.
    """

    __tablename__ = "teams"

    id: Mapped[str] = mapped_column(primary_key=True)
    slug: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    time_zone: Mapped[str] = mapped_column(default="UTC", server_default="UTC")
    kept_days: Mapped[int | None]
    records_kept_days: Mapped[int | None]
    originals_kept_days: Mapped[int | None]
    monthly_tokens: Mapped[int | None]
    show_askers: Mapped[bool] = mapped_column(default=False, server_default="0")
    source_folders: Mapped[list[Any] | None] = mapped_column(default=list)
    source_networks: Mapped[list[Any] | None] = mapped_column(default=list)
    quotas: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    quota_states: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    created_at: Mapped[datetime] = mapped_column(default=now)
    version: Mapped[int] = mapped_column(default=1)


class Member(Base):
    __tablename__ = "members"
    __table_args__ = (UniqueConstraint("team_id", "person_id"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"), index=True)
    role: Mapped[Role] = mapped_column(Word(Role))
    #: Set by a rule for a group of the provider, and removed when that no longer applies.
    by_rule: Mapped[bool] = mapped_column(default=False, server_default="0")
    notices_seen_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
    person: Mapped[Person] = relationship(lazy="joined")


class Invitation(Base):
    """A one-time link to join a team, stored hashed; accepting it deletes it."""

    __tablename__ = "invitations"
    __table_args__ = (UniqueConstraint("team_id", "email"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    email: Mapped[str]
    name: Mapped[str]
    role: Mapped[Role] = mapped_column(Word(Role))
    secret_hash: Mapped[str] = mapped_column(unique=True)
    invited_by: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(default=now)
    expires_at: Mapped[datetime]


class Key(Base):
    __tablename__ = "keys"

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    name: Mapped[str]
    start: Mapped[str]
    secret_hash: Mapped[str] = mapped_column(unique=True)
    role: Mapped[Role] = mapped_column(Word(Role))
    kb_ids: Mapped[list[Any] | None]
    #: Who made it; `by_operator`: without being a member of the team.
    made_by: Mapped[str] = mapped_column(default="", server_default="")
    by_operator: Mapped[bool] = mapped_column(default=False, server_default="0")
    #: Its own limit, besides that of the team.
    requests_per_minute: Mapped[int | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
    expires_at: Mapped[datetime | None]
    last_used_at: Mapped[datetime | None]


class IdempotentReply(Base):
    """The reply to a creating request, so that repeating the request changes nothing."""

    __tablename__ = "idempotent_replies"

    caller: Mapped[str] = mapped_column(primary_key=True)
    route: Mapped[str] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(primary_key=True)
    body_hash: Mapped[str]
    status: Mapped[int]
    body: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(default=now, index=True)
