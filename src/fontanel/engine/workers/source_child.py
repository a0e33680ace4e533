"""The code of an isolated source's process: opens it, lists it, fetches its items.

It runs under limits, and ends with its parent.
"""

from __future__ import annotations

import os
import resource
import signal
import sys
from collections.abc import Iterator
from ipaddress import ip_network
from itertools import islice
from pathlib import Path
from typing import IO

from fontanel.engine.workers.framing import receive, send
from fontanel.engine.workers.lifetime import die_with_parent
from fontanel.engine.workers.source_messages import (
    FetchFailed,
    FetchItem,
    ItemFetched,
    ItemsListed,
    ListedItem,
    OpeningRefused,
    OpenSource,
    SkippedItem,
    SourceFailed,
    SourceOpened,
    SourceReply,
    SourceRequest,
)
from fontanel.sources import (
    KINDS,
    ItemFailed,
    Listed,
    SettingsRefused,
    Skipped,
    Source,
    SourceLimits,
    SourceUnavailable,
)

_TOO_MUCH = "What the source returns takes more memory than is allowed. Narrow the query."


def serve(requests: IO[bytes], replies: IO[bytes]) -> None:
    """Open the source of the first request, and handle all others."""
    opening: OpenSource | None = receive(requests, OpenSource)
    if opening is None:
        return
    memory = opening.memory_mb * 1024 * 1024
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        source = _open(opening)
    except SettingsRefused as refused:
        send(replies, OpeningRefused(field=refused.field, error=str(refused)))
        return
    send(replies, SourceOpened())
    listing = _Listing(source)
    while request := receive(requests, SourceRequest):
        reply, content = _attempt(source, listing, request)
        send(replies, reply)
        replies.write(content)
        replies.flush()


def _open(opening: OpenSource) -> Source:
    kind = KINDS[opening.kind]
    limits = SourceLimits(
        roots=tuple(Path(root) for root in opening.roots),
        networks=tuple(ip_network(network) for network in opening.networks),
        max_bytes=opening.max_bytes,
        seconds=opening.seconds,
    )
    settings = kind.settings.model_validate(opening.settings)
    return kind.open(settings, kind.credentials.model_validate(opening.credentials), limits)


class _Listing:
    """The listing of a source, page by page."""

    def __init__(self, source: Source) -> None:
        self._source = source
        self._items: Iterator[Listed | Skipped] | None = None

    def page(self, count: int) -> list[ListedItem | SkippedItem]:
        """Return up to `count` further items."""
        if self._items is None:
            self._items = iter(self._source.items(lambda _: None))
        return [
            SkippedItem.of(item) if isinstance(item, Skipped) else ListedItem.of(item)
            for item in islice(self._items, count)
        ]


def _attempt(
    source: Source, listing: _Listing, request: SourceRequest
) -> tuple[SourceReply, bytes]:
    """Handle a request; return the reply and the bytes after it."""
    try:
        if isinstance(request, FetchItem):
            return _fetch(source, request.item.listed())
        return ItemsListed(items=listing.page(request.count)), b""
    except SourceUnavailable as error:
        return SourceFailed(error=str(error), again=error.again), b""
    except ItemFailed as error:
        return FetchFailed(error=str(error)), b""
    except (MemoryError, RecursionError):
        return SourceFailed(error=_TOO_MUCH, again=False), b""
    except Exception as error:
        reason = f"The source cannot be read ({type(error).__name__})."
        return SourceFailed(error=reason, again=True), b""


def _fetch(source: Source, item: Listed) -> tuple[ItemFetched, bytes]:
    fetched = source.fetch(item)
    content = b"".join(fetched.chunks or ())
    reply = ItemFetched(
        size=len(content),
        mark=fetched.mark,
        name=fetched.name,
        changed_at=fetched.changed_at,
        link=fetched.link,
        tags=dict(fetched.tags),
    )
    return reply, content


def main() -> None:
    """Run the process."""
    die_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    requests, replies = sys.stdin.buffer, os.fdopen(os.dup(sys.stdout.fileno()), "wb")
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())
    serve(requests, replies)


if __name__ == "__main__":
    main()
