"""The protocol of all kinds of sources.

Items with change marks, fetching, failures.
"""

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
    """The whole source cannot be read now: it is down, or rejects the credentials.

    Nothing is removed because of it. `again` says whether a retry can help without anybody's
    action.
    """

    def __init__(self, message: str, *, again: bool = True) -> None:
        super().__init__(message)
        self.again = again


class SettingsRefused(FontanelError, ValueError):
    """Settings cannot be used, or are not allowed; `field` names the bad one."""

    def __init__(self, field: str, message: str) -> None:
        super().__init__(message)
        self.field = field


class ItemFailed(FontanelError):
    """One item cannot be fetched; the others can."""


class Listed(NamedTuple):
    """An item at the source.

    `id` is its identity there; `mark` changes whenever its content may have changed; `name` is its
    path below the source's folder. An item that disappears while another with the same `same_as`
    appears was moved; empty if the source cannot tell. `changed_at` is in seconds since 1970.
    """

    id: str
    mark: str
    name: str
    changed_at: float | None = None
    size: int | None = None
    same_as: str = ""
    link: str = ""
    fetched: Fetched | None = None


class Skipped(NamedTuple):
    """An item that is skipped, and why.

    With `keep`, its earlier content stays, since it may only be unreachable for now; an id that
    ends in a slash then stands for everything below it.
    """

    id: str
    reason: str
    keep: bool = False


@dataclass(frozen=True, slots=True)
class Fetched:
    """An item's content.

    Fields of None stay as listed; `notes` are stored with the item for the next listing. `chunks`
    is None if a closer check found it unchanged.
    """

    chunks: Iterable[bytes] | None
    mark: str | None = None
    name: str | None = None
    changed_at: float | None = None
    link: str | None = None
    tags: Mapping[str, str] = field(default_factory=dict)
    notes: Mapping[str, Any] | None = None


@dataclass(frozen=True, slots=True)
class PreviousItem:
    """What the last run stored of an item."""

    mark: str
    notes: Mapping[str, Any] | None = None


#: An item's id -> what was stored of it; nothing for an item that was never fetched.
PreviousItems = Callable[[str], PreviousItem | None]


@dataclass(frozen=True, slots=True)
class SourceLimits:
    """Limits of sources.

    Folders below `roots`, private `networks`, items up to `max_bytes`.

    `scratch` is a directory of the source, kept between runs.
    """

    roots: tuple[Path, ...] = ()
    networks: tuple[IPv4Network | IPv6Network, ...] = ()
    max_bytes: int = 200_000_000
    memory_mb: int = 2048
    scratch: Path | None = None
    seconds: float = 30.0
    stopping: Callable[[], bool] = lambda: False


class Source(ABC):
    """An opened source.

    `items` and `fetch` raise SourceUnavailable when the whole source cannot be read; `fetch` raises
    ItemFailed when only this item cannot, and is called from several threads.
    """

    #: Items that are no longer listed stay: what a feed drops is merely old.
    keeps_unlisted = False
    #: How many items are fetched at once.
    at_once = 4

    @abstractmethod
    def items(self, previous: PreviousItems) -> Iterator[Listed | Skipped]: ...

    @abstractmethod
    def fetch(self, item: Listed) -> Fetched: ...

    def watched(self) -> Path | None:
        """Return a folder whose file events signal changes, if any."""
        return None

    def close(self) -> None:  # noqa: B027 - most kinds have nothing to give back
        """Close connections. Called once, whatever happened."""

    def __enter__(self) -> Source:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class SettingsModel(BaseModel):
    """The base of settings and credentials; titles and descriptions appear in forms."""

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
    """A kind of source: its title, its forms, and how to open it.

    `open` may raise SettingsRefused.
    """

    name: str
    title: str
    description: str
    settings: type[Any]
    credentials: type[Any]
    open: Callable[[Any, Any, SourceLimits], Source]
    #: The place that credentials are sent to: for another one they must be entered again.
    destination: Callable[[Any], str] = lambda settings: ""
    #: Documents are sent by programs; there is nothing to list.
    pushed: bool = False
    #: It is read by another process, under limits of memory.
    isolated: bool = False
    #: File events can start a run.
    watchable: bool = False
    #: Items that were unchanged are reported one by one.
    reports_unchanged: bool = False
