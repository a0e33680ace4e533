"""What runs inside the process of an isolated source: opens it, lists it page by page, fetches items, all under limits.

Requests and replies are those of `child.py`. The process ends when its parent does.
"""

from __future__ import annotations

import os
import resource
import signal
import sys
from collections.abc import Iterator
from dataclasses import replace
from ipaddress import ip_network
from pathlib import Path
from typing import IO, Any

from fontanel.engine.workers.child import die_with_parent, receive, send
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
    opening = receive(requests)
    if opening is None:
        return
    memory = opening["memory_mb"] * 1024 * 1024
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        source = _open(opening)
    except SettingsRefused as refused:
        send(replies, {"refused": str(refused), "field": refused.field})
        return
    send(replies, {})
    items: Iterator[Listed | Skipped] | None = None
    while request := receive(requests):
        content = b""
        try:
            if "more" in request:
                items = items or iter(source.items(lambda _: None))
                reply: dict[str, Any] = {"items": _next(items, request["more"])}
            else:
                reply, content = _fetched(source, Listed(*request["fetch"]))
        except SourceUnavailable as error:
            reply = {"unavailable": str(error), "again": error.again}
        except ItemFailed as error:
            reply = {"failed": str(error)}
        except (MemoryError, RecursionError):
            reply = {"unavailable": _TOO_MUCH, "again": False}
        except Exception as error:
            reply = {
                "unavailable": f"The source cannot be read ({type(error).__name__}).",
                "again": True,
            }
        send(replies, reply)
        replies.write(content)
        replies.flush()


def _open(opening: dict[str, Any]) -> Source:
    kind = KINDS[opening["kind"]]
    limits = SourceLimits(
        roots=tuple(Path(root) for root in opening["roots"]),
        networks=tuple(ip_network(network) for network in opening["networks"]),
        max_bytes=opening["max_bytes"],
        seconds=opening["seconds"],
    )
    settings = kind.settings.model_validate(opening["settings"])
    return kind.open(settings, kind.credentials.model_validate(opening["credentials"]), limits)


def _next(items: Iterator[Listed | Skipped], count: int) -> list[tuple[str, list[Any]]]:
    found: list[tuple[str, list[Any]]] = []
    for item in items:
        kind = "skipped" if isinstance(item, Skipped) else "listed"
        found.append((kind, list(_plain(item))))
        if len(found) == count:
            break
    return found


def _plain(item: Listed | Skipped) -> Listed | Skipped:
    return item._replace(fetched=None) if isinstance(item, Listed) else item


def _fetched(source: Source, item: Listed) -> tuple[dict[str, Any], bytes]:
    fetched = source.fetch(item)
    content = b"".join(fetched.chunks or ())
    about = replace(fetched, chunks=None)
    return {
        "size": len(content),
        "mark": about.mark,
        "name": about.name,
        "changed_at": about.changed_at,
        "link": about.link,
        "tags": dict(about.tags),
    }, content


def main() -> None:
    die_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    requests, replies = sys.stdin.buffer, os.fdopen(os.dup(sys.stdout.fileno()), "wb")
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())
    serve(requests, replies)


if __name__ == "__main__":
    main()
