"""Channels of desks, and the messages that come and go through them."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints

from fontanel.schemas.base import Model, Name
from fontanel.schemas.sources import CredentialText

MessageStateName = Literal["waiting", "answered", "sent", "noted", "ignored", "failed"]
MessageKindName = Literal["question", "correction", "feedback", "person", "follow", "note"]


class ChannelKindOut(Model):
    """A kind of channel: its forms are JSON Schemas."""

    name: str
    title: str
    description: str
    settings: dict[str, Any]
    credentials: dict[str, Any]
    posted: bool = Field(description="Messages are posted to an address of the service.")
    set_up: list[str] = Field(description="How to set up the other side.")


class ChannelIn(Model):
    name: Name = Field(examples=["Harbour chat"])
    desk: str = Field(max_length=200, description="The desk that answers, by id or short name.")
    kind: str = Field(max_length=50, examples=["webhook"])
    settings: dict[str, Any] = Field(
        description="As the kind's schema says.",
        examples=[{"url": "https://chat.skerrow.example/hooks/answers"}],
    )
    credentials: dict[str, CredentialText] | None = Field(
        None, description="Stored encrypted, never returned."
    )


class ChannelChange(Model):
    """Changes of a channel; fields left out stay, `credentials` replaces all of them."""

    name: Name | None = None
    settings: dict[str, Any] | None = None
    credentials: dict[str, CredentialText] | None = None
    paused: bool | None = Field(
        None, description="A paused channel neither receives nor sends messages."
    )


class ChannelOut(Model):
    """A channel; `failing` is why it does not work now, if it does not."""

    id: str
    desk: str = Field(description="The short name of its desk.")
    name: str
    kind: str
    settings: dict[str, Any]
    credential_names: list[str]
    paused: bool
    address: str | None = Field(
        description="Where messages are posted, for kinds that take them so."
    )
    connected_at: datetime | None = Field(description="When it began to work, if it does.")
    failing: str | None
    failing_since: datetime | None
    waiting: int = Field(description="Messages that wait for their answer, or to be sent.")
    failed: int
    last_message_at: datetime | None
    created_at: datetime
    changed_at: datetime
    version: int


class ChannelSaved(ChannelOut):
    """A channel that was created or changed; a secret that was made for it is shown once."""

    secret: str | None = None


class ChannelSource(Model):
    number: int
    title: str
    place: str
    quote: str
    url: str


class ChannelMessageOut(Model):
    """A message with its reply; `reason` is why it is ignored, or what failed last."""

    id: str
    kind: MessageKindName
    state: MessageStateName
    reason: str
    sender: str
    sender_name: str
    room: str
    thread: str
    text: str
    reply: str
    sources: list[ChannelSource]
    turn_id: str | None
    conversation_id: str | None
    attempts: int
    received_at: datetime
    answered_at: datetime | None
    sent_at: datetime | None


class ChannelTestIn(Model):
    """A test message, to a room or an address at the other side."""

    room: str = Field(
        "", max_length=1000, description="In the form that the other side has for it."
    )
    text: Annotated[
        str, StringConstraints(strip_whitespace=True, min_length=1, max_length=2000)
    ] = "This is a test message."


class PostedOut(Model):
    """What becomes of a posted message."""

    state: Literal["taken", "known", "ignored"]
    reason: str = ""
