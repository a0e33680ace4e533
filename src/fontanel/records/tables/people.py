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
    created_at: Mapped[datetime] = mapped_column(default=now)


class SignIn(Base):
    """A person's session at the console, found by the hash of its cookie. `id` names it to the person; `address` and `agent` say
    from where it was opened."""

    __tablename__ = "sign_ins"

    token_hash: Mapped[str] = mapped_column(primary_key=True)
    id: Mapped[str] = mapped_column(server_default="")
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"), index=True)
    address: Mapped[str] = mapped_column(default="", server_default="")
    agent: Mapped[str] = mapped_column(default="", server_default="")
    created_at: Mapped[datetime] = mapped_column(default=now)
    expires_at: Mapped[datetime]


class PasswordLink(Base):
    """A one-time link by which a person sets a new password. Made by an operator; its secret is kept hashed."""

    __tablename__ = "password_links"

    secret_hash: Mapped[str] = mapped_column(primary_key=True)
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"), index=True)
    expires_at: Mapped[datetime]


class Team(Base):
    """`kept_days` is how long conversations are kept after their last question, None for good; `monthly_tokens` what the team's
    desks may use of models in a calendar month. `source_folders` and `source_networks` are what its sources may read of what the
    operator allows; None (teams from before these grants) is all of it."""

    __tablename__ = "teams"

    id: Mapped[str] = mapped_column(primary_key=True)
    slug: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    time_zone: Mapped[str] = mapped_column(default="UTC", server_default="UTC")
    kept_days: Mapped[int | None]
    monthly_tokens: Mapped[int | None]
    source_folders: Mapped[list[Any] | None] = mapped_column(default=list)
    source_networks: Mapped[list[Any] | None] = mapped_column(default=list)
    created_at: Mapped[datetime] = mapped_column(default=now)
    version: Mapped[int] = mapped_column(default=1)


class Member(Base):
    __tablename__ = "members"
    __table_args__ = (UniqueConstraint("team_id", "person_id"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"), index=True)
    role: Mapped[Role] = mapped_column(Word(Role))
    notices_seen_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
    person: Mapped[Person] = relationship(lazy="joined")


class Invitation(Base):
    """A one-time link by which somebody joins a team. Its secret is kept hashed; accepting it removes it."""

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
    created_at: Mapped[datetime] = mapped_column(default=now)
    expires_at: Mapped[datetime | None]
    last_used_at: Mapped[datetime | None]


class IdempotentReply(Base):
    """What a creating request answered, so that the same request sent again changes nothing."""

    __tablename__ = "idempotent_replies"

    caller: Mapped[str] = mapped_column(primary_key=True)
    route: Mapped[str] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(primary_key=True)
    body_hash: Mapped[str]
    status: Mapped[int]
    body: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(default=now, index=True)
