"""A feed: Atom or RSS. What a feed no longer lists has only grown old, and stays."""

from __future__ import annotations

import calendar
import hashlib
import html
import io
from collections.abc import Iterator
from typing import Any

from pydantic import Field

from fontanel.sources.network.reach import check_url, http_client, origin_of
from fontanel.sources.network.requests import Requests, basic, bounded, refusal, whole
from fontanel.sources.protocol import (
    Fetched,
    ItemFailed,
    Kind,
    Listed,
    PreviousItems,
    SettingsModel,
    Skipped,
    Source,
    SourceLimits,
    SourceUnavailable,
)

_MAX_FEED = 20_000_000


class FeedSettings(SettingsModel):
    url: str = Field(title="Address of the feed", min_length=1, max_length=2000)
    whole_pages: bool = Field(
        default=False,
        title="Take the linked pages",
        description="Take the page that an entry links to instead of the entry's own text.",
    )


class FeedCredentials(SettingsModel):
    user: str | None = Field(None, title="User name")
    password: str | None = Field(None, title="Password")


class Feed(Source):
    """Entries of a feed as items by their own id; the mark is a hash of the entry."""

    keeps_unlisted = True

    def __init__(
        self, settings: FeedSettings, credentials: FeedCredentials, around: SourceLimits
    ) -> None:
        self._settings = settings
        self._url = check_url(settings.url, "url")
        self._auth = (
            (credentials.user or "", credentials.password or "") if credentials.user else None
        )
        self._most = around.max_bytes
        self._requests = Requests(http_client(around, follow_redirects=True), around.stopping)
        self._entries: dict[str, Any] = {}

    def close(self) -> None:
        self._requests.client.close()

    def items(self, previous: PreviousItems) -> Iterator[Listed | Skipped]:
        try:
            response = self._requests.send("GET", self._url, build=self._first)
            if response.status_code != 200:
                response.close()
                raise SourceUnavailable(
                    refusal(response, self._settings.url), again=response.status_code != 401
                )
            data = whole(response, _MAX_FEED)
        except ItemFailed as error:
            raise SourceUnavailable(str(error)) from error
        import feedparser

        parsed = feedparser.parse(io.BytesIO(data), sanitize_html=True, resolve_relative_uris=True)
        if not parsed.entries and (parsed.bozo or not parsed.get("version")):
            raise SourceUnavailable(f"{self._settings.url} is not an Atom or RSS feed.")
        for entry in parsed.entries:
            item_id = entry.get("id") or entry.get("link")
            if not item_id:
                yield Skipped(
                    str(entry.get("title", "an entry"))[:200], "has neither an id nor a link"
                )
                continue
            self._entries[item_id] = entry
            text = self._page(entry) + entry.get("link", "") + str(entry.get("updated", ""))
            changed = entry.get("updated_parsed") or entry.get("published_parsed")
            title = entry.get("title") or item_id
            name = (
                "".join(c if c.isalnum() or c in " .-_" else "-" for c in title)[:80].strip()
                or "entry"
            )
            yield Listed(
                item_id,
                hashlib.sha256(text.encode()).hexdigest()[:32],
                f"{name} {_short(item_id)}.html",
                float(calendar.timegm(changed)) if changed else None,
                link=entry.get("link", ""),
            )

    def _first(self) -> Any:
        return self._requests.client.build_request(
            "GET", self._url, headers=self._credentials_for(self._url)
        )

    def _credentials_for(self, url: Any) -> dict[str, str]:
        # The feed's credentials are not for other hosts that it links to.
        if self._auth is None or origin_of(url) != origin_of(self._url):
            return {}
        return {"Authorization": basic(*self._auth)}

    def fetch(self, item: Listed) -> Fetched:
        entry = self._entries[item.id]
        tags = {"author": entry["author"][:200]} if entry.get("author") else {}
        if self._settings.whole_pages and item.link:
            response = self._requests.send("GET", item.link)
            if response.status_code != 200:
                response.close()
                raise ItemFailed(refusal(response, item.link))
            return Fetched(bounded(response, self._most), tags=tags)
        return Fetched([self._page(entry).encode()], tags=tags)

    def _page(self, entry: Any) -> str:
        """Return the entry as a page; its text was sanitised when the feed was parsed."""
        content = next((part.value for part in entry.get("content", []) if part.get("value")), None)
        body = content or entry.get("summary", "")
        title = html.escape(entry.get("title") or "Entry")
        return (
            "<!doctype html><meta"
            f" charset=utf-8><title>{title}</title><h1>{title}</h1>\n<main>{body}</main>"
        )


def _short(item_id: str) -> str:
    return hashlib.sha256(item_id.encode()).hexdigest()[:8]


KIND = Kind(
    name="feed",
    title="Feed",
    description="Entries of an Atom or RSS feed, or the pages they link to.",
    settings=FeedSettings,
    credentials=FeedCredentials,
    open=Feed,
    destination=lambda s: origin_of(s.url),
)
