"""The protocol of all kinds of channels.

A channel receives messages, acknowledges them, sends replies, and edits replies that it sent.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from pydantic import Field

from fontanel.errors import FontanelError, Unavailable
from fontanel.sources.network.reach import AddressForbidden, resolve
from fontanel.sources.protocol import SettingsModel, SourceLimits

#: The maximum characters of a question; longer messages are refused with a reply.
MAX_QUESTION = 2000
#: The maximum characters of any identity or address at the other side.
MAX_NAME = 1000


class ChannelUnavailable(Unavailable):
    """The other side cannot be reached, or refuses us.

    `again` says whether a retry can help without anybody's action.
    """

    def __init__(self, message: str, *, again: bool = True) -> None:
        super().__init__(message)
        self.again = again


class MessageRefused(FontanelError):
    """The other side refuses one message for good; others may be accepted."""


class NotSigned(Exception):
    """A message does not have a valid signature of now."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Incoming:
    """A message from the other side.

    `id` is its identity there; `thread` is what its conversation is recognised by, `room` where it
    was written. `address` is what the channel needs to reply.
    """

    id: str
    sender: str
    thread: str
    text: str = ""
    sender_name: str = ""
    room: str = ""
    address: Mapping[str, Any] = field(default_factory=dict)
    corrects: str = ""
    """The earlier message of the same sender that this one replaces."""
    replies_to: str = ""
    """A message or reply that it answers: their thread is its thread, if they are known."""
    if_known: bool = False
    """Whether it is only meant for us if something was asked in its thread before."""
    about: str = ""
    """The reply that a reaction is about."""
    helpful: bool | None = None
    """What a reaction says about that reply."""
    ignored: str = ""
    """Why it must not be answered, such as that a program wrote it."""


def storable(value: Any) -> Any:
    """Return a value whose texts can be stored: without NUL, and without half characters."""
    if isinstance(value, str):
        return value.replace("\0", "").encode("utf-8", "replace").decode()
    if isinstance(value, Mapping):
        return {storable(name): storable(one) for name, one in value.items()}
    return [storable(one) for one in value] if isinstance(value, list) else value


@dataclass(frozen=True, slots=True, kw_only=True)
class Quoted:
    """A source of a reply: a number in the text, with the place in the document."""

    number: int
    title: str
    place: str
    quote: str
    url: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Outgoing:
    """A reply, or a message of our own.

    `id` stays the same over all attempts, so that the other side can recognise a repetition.
    """

    id: str
    text: str
    """Markdown."""
    address: Mapping[str, Any]
    """As the message had it that is replied to; for a message of our own, from `Kind.address`."""
    sources: Sequence[Quoted] = ()
    in_reply_to: str = ""
    replaces: str = ""
    """The identity of the reply that it edits."""


#: Stores messages, and how far the channel has received; returns when they are safe.
Take = Callable[[Sequence[Incoming], str | None], None]


def checked_address(host: str, port: int, limits: SourceLimits) -> str:
    """Return an allowed address of the other side. Raises ChannelUnavailable."""
    try:
        return resolve(host, port, limits.networks)
    except AddressForbidden as error:
        raise ChannelUnavailable(str(error), again=False) from error
    except OSError as error:
        raise ChannelUnavailable(f"The host {host} is not known: {error}.") from error


class ChannelSettings(SettingsModel):
    """What every kind of channel has."""

    allowed: list[str] = Field(
        [],
        max_length=500,
        title="Who may ask",
        description="Addresses, rooms or domains, such as *@skerrow.example. Members of the team"
        " are recognised by their e-mail address. Without entries everybody may ask if anyone"
        " with a link may ask the desk.",
    )
    max_words: int = Field(
        150,
        ge=20,
        le=2000,
        title="Maximum words",
        description="Longer answers end with the last whole sentence.",
    )
    list_sources: bool = Field(
        default=True,
        title="List the sources",
        description="Name the cited documents below an answer, with links to the places.",
    )
    hand_over_to: str = Field(
        "",
        max_length=MAX_NAME,
        title="Hand over to",
        description="Room or address that is sent a question, with its record, when somebody"
        " replies with the word person.",
    )
    per_minute: int = Field(
        10, ge=1, le=600, title="Questions a minute", description="From one sender."
    )


class Channel(ABC):
    """An open channel. `send` and `acknowledge` are called from other threads than `receive`."""

    def receive(self, take: Take, stopping: Callable[[], bool]) -> None:  # noqa: B027
        """Pass messages to `take` until `stopping`, for kinds that stay connected.

        Raises:
            ChannelUnavailable: the other side is away, or refuses us.
        """

    def acknowledge(self, address: Mapping[str, Any]) -> None:  # noqa: B027 - few kinds can
        """Show the sender that an answer is being made."""

    @abstractmethod
    def send(self, message: Outgoing) -> str:
        """Send a message, or edit the one that it replaces; return its identity there.

        Raises:
            ChannelUnavailable: it was not accepted, and no other would be.
            MessageRefused: it never will be accepted.
        """

    def close(self) -> None:  # noqa: B027 - some kinds have nothing to give back
        """Close connections. Called once, whatever happened."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Kind:
    """A kind of channel: its title, its forms, and how to open it."""

    name: str
    title: str
    description: str
    settings: type[Any]
    credentials: type[Any]
    open: Callable[[Any, Any, SourceLimits, str], Channel]
    """With settings, credentials, limits, and how far messages were received.

    May raise SettingsRefused.
    """
    address: Callable[[Any, str], Mapping[str, Any]]
    """The address of a room or person, in the form that `Outgoing` needs."""
    destination: Callable[[Any], str]
    """Where credentials are sent: for another place they must be entered again."""
    accept: Callable[[Any, Any, Mapping[str, str], bytes], Incoming] | None = None
    """Parse a posted message; raises NotSigned and Refused. None for kinds that stay connected."""
    set_up: tuple[str, ...] = ()
    """How to set up the other side, a sentence or two each."""
    makes_secret: bool = False
    """Whether a secret is made for it if none is entered."""
