"""The pictures of a site's pages, which are stored with the pages."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterable
from dataclasses import dataclass
from urllib.parse import urljoin, urlsplit

from fontanel.sources.links import normal_address
from fontanel.sources.network.requests import AddressRefused, whole
from fontanel.sources.protocol import ItemFailed, SourceUnavailable
from fontanel.sources.site_hosts import AGENT, Hosts

_KINDS = frozenset({"image/png", "image/jpeg", "image/webp", "image/gif", "image/bmp"})
_MAX_BYTES, _MAX_PAGE_BYTES, _MAX_CACHED_BYTES = 5_000_000, 25_000_000, 20_000_000
_MAX_HOPS = 3


@dataclass(frozen=True, slots=True)
class Found:
    """Pictures by address, each with its media type, and whether one could not be had for now."""

    pictures: dict[str, tuple[str, bytes]]
    incomplete: bool = False


class SitePictures:
    """Fetches the pictures of pages from the hosts of a site; thread-safe.

    Pictures that several pages show are fetched once, as long as the cache has them.
    """

    def __init__(self, hosts: Hosts) -> None:
        self._hosts = hosts
        self._cache: OrderedDict[str, tuple[str, bytes] | None] = OrderedDict()
        self._cached = 0
        self._lock = threading.Lock()

    def of(self, addresses: Iterable[str]) -> Found:
        """Return those of the pictures that the site offers, up to a size."""
        pictures: dict[str, tuple[str, bytes]] = {}
        size, incomplete = 0, False
        for address in addresses:
            try:
                picture = self._picture(address)
            except (ItemFailed, SourceUnavailable):
                incomplete = True
                continue
            if picture is not None and size + len(picture[1]) <= _MAX_PAGE_BYTES:
                pictures[address] = picture
                size += len(picture[1])
        return Found(pictures, incomplete)

    def _picture(self, address: str) -> tuple[str, bytes] | None:
        """Return a picture; None if it is on another site, forbidden, or not a picture."""
        with self._lock:
            if address in self._cache:
                self._cache.move_to_end(address)
                return self._cache[address]
        picture = self._fetch(address)
        with self._lock:
            if address not in self._cache:
                self._cache[address] = picture
                self._cached += _size(picture)
            while self._cached > _MAX_CACHED_BYTES:
                self._cached -= _size(self._cache.popitem(last=False)[1])
        return picture

    def _fetch(self, address: str) -> tuple[str, bytes] | None:
        normal = normal_address(address)
        for _ in range(_MAX_HOPS):
            if normal is None or not self._allowed(normal):
                return None
            try:
                response = self._hosts.get(normal, {})
            except AddressRefused:
                return None
            status = response.status_code
            if status in (301, 302, 303, 307, 308):
                response.close()
                normal = normal_address(urljoin(normal, response.headers.get("location", "")))
                continue
            kind = response.headers.get("content-type", "").partition(";")[0].strip().lower()
            if status == 200 and kind in _KINDS:
                return kind, whole(response, _MAX_BYTES)
            response.close()
            if status == 429 or status >= 500:
                raise ItemFailed(f"{address}: status {status}")
            return None
        return None

    def _allowed(self, address: str) -> bool:
        if urlsplit(address).netloc not in self._hosts.allowed:
            return False
        robots = self._hosts.of(address).robots
        return robots is None or robots.can_fetch(address, AGENT)


def _size(picture: tuple[str, bytes] | None) -> int:
    return 100 if picture is None else 100 + len(picture[1])
