"""What every kind of source has in common: items with change marks, fetching, and how both can fail."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from ipaddress import IPv4Network, IPv6Network
from pathlib import Path
from typing import Annotated, Any, NamedTuple, Self

from pydantic import BaseModel, ConfigDict, StringConstraints, model_validator

from fontanel.errors import FontanelError, Unavailable


class SourceUnavailable(Unavailable):
    """The source as a whole cannot be read now: it is away, refuses the credentials, or answers with nothing sensible.

    Nothing is removed because of it. `again` tells whether trying later can help without anybody doing something.
    """

    def __init__(self, message: str, again: bool = True) -> None:
        super().__init__(message)
        self.again = again


class SettingsRefused(FontanelError, ValueError):
    """The settings cannot be used, or ask for what the operator does not allow. `field` names the one at fault."""

    def __init__(self, field: str, message: str) -> None:
        super().__init__(message)
        self.field = field


class ItemFailed(FontanelError):
    """One item cannot be fetched; the others can."""


class Listed(NamedTuple):
    """An item at the source. `id` is its identity there; `mark` changes whenever its content may have changed; `name` is its path
    below the source's folder. An item that leaves while another with the same `same_as` comes was moved; empty: the source cannot
    tell. `changed_at` is in seconds since 1970."""

    id: str
    mark: str
    name: str
    changed_at: float | None = None
    size: int | None = None
    same_as: str = ""
    link: str = ""
    fetched: Fetched | None = None


class Skipped(NamedTuple):
    """An item that is not taken, and why. With `keep` what was taken of it before stays, since it may only be out of reach for
    now; an id that ends in a slash then stands for everything below it."""

    id: str
    reason: str
    keep: bool = False


@dataclass(frozen=True, slots=True)
class Fetched:
    """An item's content. What is None stays as listed; `notes` is kept with the item for the next run's listing.
    `chunks` is None when a closer look found it unchanged."""

    chunks: Iterable[bytes] | None
    mark: str | None = None
    name: str | None = None
    changed_at: float | None = None
    link: str | None = None
    tags: Mapping[str, str] = field(default_factory=dict)
    notes: Mapping[str, Any] | None = None


@dataclass(frozen=True, slots=True)
class PreviousItem:
    """What the last run kept of an item."""

    mark: str
    notes: Mapping[str, Any] | None = None


#: An item's id -> what is previous of it; an item that was never taken has none.
PreviousItems = Callable[[str], PreviousItem | None]


@dataclass(frozen=True, slots=True)
class SourceLimits:
    """What the operator allows sources: folders below `roots`, private addresses in `networks`, items of at most `max_bytes`.
    `scratch` is a directory that belongs to one source, kept between runs."""

    roots: tuple[Path, ...] = ()
    networks: tuple[IPv4Network | IPv6Network, ...] = ()
    max_bytes: int = 200_000_000
    memory_mb: int = 2048
    scratch: Path | None = None
    seconds: float = 30.0
    stopping: Callable[[], bool] = lambda: False


class Source(ABC):
    """An opened source. `items` and `fetch` raise SourceUnavailable when the source as a whole cannot be read; `fetch` raises
    ItemFailed when only this item cannot. `fetch` is called from several threads at once."""

    #: Items that are no longer listed stay: what a feed drops has only grown old.
    keeps_unlisted = False
    #: How many items are fetched at once.
    at_once = 4

    @abstractmethod
    def items(self, previous: PreviousItems) -> Iterator[Listed | Skipped]: ...

    @abstractmethod
    def fetch(self, item: Listed) -> Fetched: ...

    def watched(self) -> Path | None:
        """A folder whose file events tell that something changed, if there is one."""
        return None

    def close(self) -> None:  # noqa: B027 - most kinds have nothing to give back
        """Give back connections. Called once, whatever happened."""

    def __enter__(self) -> Source:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class SettingsModel(BaseModel):
    """The base of a kind's settings and credentials. Titles and descriptions are shown as the form's labels and hints."""

    model_config = ConfigDict(extra="forbid", str_strip_whitespace=True, allow_inf_nan=False)

    @model_validator(mode="after")
    def _no_nul(self) -> Self:
        for name, value in self:
            for text in value if isinstance(value, list) else [value]:
                if isinstance(text, str) and "\0" in text:
                    raise ValueError(f"{name} has a character that cannot be used (NUL)")
        return self


#: A secret that is sent as it is in a header: printable ASCII.
HeaderSecret = Annotated[str, StringConstraints(pattern=r"^[\x21-\x7e]*$", max_length=10_000)]


class NoCredentials(SettingsModel):
    """For kinds that need none."""


@dataclass(frozen=True, slots=True)
class Kind:
    """A kind of source: what it is called, its forms, and how one is opened. `open` may raise SettingsRefused."""

    name: str
    title: str
    says: str
    settings: type[Any]
    credentials: type[Any]
    open: Callable[[Any, Any, SourceLimits], Source]
    #: Where credentials go with these settings: they are not used for another place without being entered again.
    destination: Callable[[Any], str] = lambda settings: ""
    #: Documents are sent by programs; there is nothing to list.
    pushed: bool = False
    #: It is read by a process of its own, under limits of memory.
    isolated: bool = False
    #: File events can start a run.
    watchable: bool = False
    #: Items that were unchanged are reported one by one.
    reports_unchanged: bool = False
