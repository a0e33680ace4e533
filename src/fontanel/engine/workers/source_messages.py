"""Messages to and from the process of an isolated source."""

from __future__ import annotations

from typing import Any

from fontanel.engine.workers.framing import Message
from fontanel.sources import Listed, Skipped


class OpenSource(Message):
    """Open a source, under these limits."""

    kind: str
    settings: dict[str, Any]
    credentials: dict[str, Any]
    roots: list[str]
    networks: list[str]
    max_bytes: int
    seconds: float
    memory_mb: int


class ListItems(Message):
    """List up to `count` further items."""

    count: int


class ListedItem(Message):
    """An item at the source."""

    id: str
    mark: str
    name: str
    changed_at: float | None = None
    size: int | None = None
    same_as: str = ""
    link: str = ""

    @classmethod
    def of(cls, item: Listed) -> ListedItem:
        """Return the message for an item, without content that it came with."""
        return cls(
            id=item.id,
            mark=item.mark,
            name=item.name,
            changed_at=item.changed_at,
            size=item.size,
            same_as=item.same_as,
            link=item.link,
        )

    def listed(self) -> Listed:
        """Return the item."""
        return Listed(
            self.id, self.mark, self.name, self.changed_at, self.size, self.same_as, self.link
        )


class SkippedItem(Message):
    """An item that is not accepted, and why."""

    id: str
    reason: str
    keep: bool = False

    @classmethod
    def of(cls, item: Skipped) -> SkippedItem:
        """Return the message for it."""
        return cls(id=item.id, reason=item.reason, keep=item.keep)

    def skipped(self) -> Skipped:
        """Return the item."""
        return Skipped(self.id, self.reason, self.keep)


class FetchItem(Message):
    """Fetch an item."""

    item: ListedItem


class SourceOpened(Message):
    """The source is open."""


class OpeningRefused(Message):
    """The settings cannot be used."""

    field: str
    error: str


class ItemsListed(Message):
    """Some items, in the source's order; fewer than requested: there are no more."""

    items: list[ListedItem | SkippedItem]


class ItemFetched(Message):
    """An item's content, which follows."""

    size: int
    mark: str | None = None
    name: str | None = None
    changed_at: float | None = None
    link: str | None = None
    tags: dict[str, str] = {}


class SourceFailed(Message):
    """The source as a whole cannot be read; `again`: trying later may help."""

    error: str
    again: bool


class FetchFailed(Message):
    """Only this item cannot be fetched."""

    error: str


SourceRequest = ListItems | FetchItem
SourceReply = ItemsListed | ItemFetched | SourceFailed | FetchFailed
