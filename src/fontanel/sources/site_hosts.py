"""The hosts of a web site: what they ask of robots, pauses, and sitemaps."""

from __future__ import annotations

import gzip
import io
import threading
import time
import zlib
from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urljoin, urlsplit

from defusedxml import ElementTree
from protego import Protego

from fontanel.sources.links import normal_address
from fontanel.sources.network.requests import AddressRefused, Requests, refusal, whole
from fontanel.sources.protocol import ItemFailed, SourceUnavailable

#: The name by which robots.txt addresses this crawler.
AGENT = "Fontanel"
_MAX_SITEMAPS = 200
_MAX_SITEMAP = 50_000_000
_MAX_ROBOTS = 500_000
_MAX_DELAY = 60.0


@dataclass(slots=True)
class Host:
    """A host's rules for robots, its sitemaps, and when it may be asked next."""

    robots: Protego | None
    delay: float
    sitemaps: list[str] = field(default_factory=list)
    next_at: float = 0.0


class Hosts:
    """The hosts that a crawl visits, with polite requests to them; thread-safe.

    Args:
        requests: Sends the requests.
        allowed: The network locations that belong to the site.
        delay: Seconds between two requests to a host, unless its robots.txt asks for more.
    """

    def __init__(self, requests: Requests, allowed: set[str], delay: float) -> None:
        self._requests = requests
        self._delay = delay
        self._hosts: dict[str, Host] = {}
        self._lock = threading.Lock()
        self.allowed = allowed

    def get(self, address: str, headers: dict[str, str]) -> Any:
        """Request an address, once the host's pause is over."""
        self._wait_for_turn(self.of(address))
        return self._requests.send("GET", address, headers=headers)

    def _wait_for_turn(self, host: Host) -> None:
        """Leave the site's pause between two requests, however many threads there are."""
        with self._lock:
            moment = time.monotonic()
            at = max(moment, host.next_at)
            host.next_at = at + host.delay
        while (left := at - time.monotonic()) > 0:
            if self._requests.stopping():
                raise SourceUnavailable("The service is stopping.")
            time.sleep(min(left, 0.2))

    def of(self, address: str) -> Host:
        """Return an address's host, whose robots.txt is loaded once."""
        parts = urlsplit(address)
        key = f"{parts.scheme}://{parts.netloc}"
        with self._lock:
            if key in self._hosts:
                return self._hosts[key]
        result = self._ask_robots(key)
        with self._lock:
            return self._hosts.setdefault(key, result)

    def _ask_robots(self, origin: str) -> Host:
        """Load robots.txt (RFC 9309): without one all is allowed.

        If unavailable, nothing is.
        """
        address = f"{origin}/robots.txt"
        try:
            for _ in range(5):
                response = self._requests.send("GET", address)
                if response.status_code not in (301, 302, 303, 307, 308):
                    break
                response.close()
                address = urljoin(address, response.headers.get("location", ""))
            if response.status_code >= 500 or response.status_code == 429:
                response.close()
                raise SourceUnavailable(refusal(response, address))
            if response.status_code != 200:
                response.close()
                return Host(None, self._delay)
            text = whole(response, _MAX_ROBOTS).decode("utf-8", "replace")
        except ItemFailed as error:
            raise SourceUnavailable(str(error)) from error
        robots = Protego.parse(text)
        asked = float(robots.crawl_delay(AGENT) or 0)
        return Host(robots, min(max(asked, self._delay), _MAX_DELAY), list(robots.sitemaps))

    def sitemap_pages(self, starts: Sequence[str], limit: int) -> Iterator[str]:
        """Yield up to `limit` addresses of the sitemaps of the starts and of known hosts."""
        todo = deque(
            dict.fromkeys(
                [
                    f"{urlsplit(start).scheme}://{urlsplit(start).netloc}/sitemap.xml"
                    for start in starts
                ]
                + [sitemap for host in self._hosts.values() for sitemap in host.sitemaps]
            )
        )
        seen = set(todo)
        count = 0
        while todo and len(seen) <= _MAX_SITEMAPS:
            address = todo.popleft()
            if urlsplit(address).netloc not in self.allowed:
                continue
            for tag, location in self._sitemap(address):
                if tag == "sitemap" and location not in seen:
                    seen.add(location)
                    todo.append(location)
                elif tag == "url":
                    count += 1
                    if count > limit:
                        return
                    yield location

    def _sitemap(self, address: str) -> list[tuple[str, str]]:
        """Return a sitemap's entries as (url or sitemap, address); none if unreadable."""
        try:
            response = self.get(address, {})
            if response.status_code != 200:
                response.close()
                return []
            data = whole(response, _MAX_SITEMAP)
            if data[:2] == b"\x1f\x8b":
                # No more is unpacked than a sitemap may have.
                data = gzip.GzipFile(fileobj=io.BytesIO(data)).read(_MAX_SITEMAP)
            root = ElementTree.fromstring(data)
        except (
            ItemFailed,
            AddressRefused,
            ElementTree.ParseError,
            ValueError,
            OSError,
            EOFError,
            zlib.error,
        ):
            return []
        out = []
        for node in root:
            tag = str(node.tag).rpartition("}")[2]
            location = normal_address(urljoin(address, (node.findtext("{*}loc") or "").strip()))
            if tag in ("url", "sitemap") and location:
                out.append((tag, location))
        return out
