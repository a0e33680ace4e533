"""A web site: pages from start pages and sitemaps, by their links, within limits."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from typing import Any
from urllib.parse import urljoin, urlsplit

from pydantic import Field

from fontanel.sources.frontier import Frontier
from fontanel.sources.links import PageLinks, normal_address, page_links
from fontanel.sources.network.reach import check_url, http_client
from fontanel.sources.network.requests import AddressRefused, Requests, http_moment, refusal, whole
from fontanel.sources.patterns import Patterns, chooser
from fontanel.sources.protocol import (
    Fetched,
    ItemFailed,
    Kind,
    Listed,
    NoCredentials,
    PreviousItem,
    PreviousItems,
    SettingsRefused,
    Skipped,
    Source,
    SourceLimits,
    SourceUnavailable,
)
from fontanel.sources.site_hosts import AGENT, Hosts
from fontanel.sources.site_pictures import SitePictures
from fontanel.sources.web_archive import write_web_archive

_MAX_HOPS = 10
_MAX_PAGE = 50_000_000
_HTML = ("text/html", "application/xhtml+xml")
#: Kinds of files that are read in addition to pages.
_FILES = (
    "text/",
    "application/pdf",
    "application/json",
    "application/rtf",
    "application/epub",
    "application/msword",
    "application/vnd.openxmlformats",
    "application/vnd.oasis",
    "application/vnd.ms-excel",
    "application/x-subrip",
)


class SiteSettings(Patterns):
    start: list[str] = Field(title="Start pages", min_length=1, max_length=50)
    sitemaps: bool = Field(
        default=True,
        title="Read sitemaps",
        description="By default those named in robots.txt, and /sitemap.xml.",
    )
    hosts: list[str] = Field(
        [],
        title="Other hosts",
        max_length=50,
        description="Further hosts of the site, in addition to those of the start pages.",
    )
    files: bool = Field(
        default=True,
        title="Take linked files",
        description="PDFs and other documents that pages link to.",
    )
    pictures: bool = Field(
        default=False,
        title="Store the pictures of pages",
        description="For models that describe pictures. They are requested again when their page"
        " changes.",
    )
    depth: int = Field(10, title="Maximum depth of links", ge=0, le=100)
    max_pages: int = Field(2000, title="Pages at most", ge=1, le=200_000)
    delay: float = Field(
        0.2,
        title="Seconds between requests",
        ge=0,
        le=60,
        description="The site's own wish in robots.txt counts when it is longer.",
    )


@dataclass(frozen=True, slots=True)
class _Visit:
    """The result of visiting an address."""

    address: str
    depth: int
    item: Listed | Skipped
    links: tuple[str, ...] = ()
    #: Addresses on the way that led here.
    through: tuple[str, ...] = ()


class Site(Source):
    """Pages of a site as items by their canonical address.

    A page's mark is a hash of its content. Its notes store ETag and Last-Modified for conditional
    requests, and its links, so that an unchanged page is not fetched to continue.
    """

    at_once = 4

    def __init__(self, settings: SiteSettings, around: SourceLimits) -> None:
        self._settings = settings
        self._starts = []
        for start in settings.start:
            address = normal_address(str(check_url(start, "start")))
            if address is None:
                raise SettingsRefused("start", f"{start!r} is not the address of a page.")
            self._starts.append(address)
        allowed = {_host(address) for address in self._starts} | {
            host.lower() for host in settings.hosts
        }
        self._requests = Requests(http_client(around), around.stopping)
        self._most = min(around.max_bytes, _MAX_PAGE)
        self._reason = chooser(settings, files=False)
        self._hosts = Hosts(self._requests, allowed, settings.delay)
        self._pictures = SitePictures(self._hosts)
        self._failed: dict[str, str] = {}
        self._many_hosts = len(allowed) > 1

    def close(self) -> None:
        self._requests.client.close()

    # The crawl

    def items(self, previous: PreviousItems) -> Iterator[Listed | Skipped]:
        """Yield the pages of the site, as the crawl comes to them."""
        for address in self._starts:
            self._hosts.of(address)
        frontier = Frontier(self._starts, self._settings.depth, self._settings.max_pages)
        if self._settings.sitemaps and self._settings.depth:
            for address in self._hosts.sitemap_pages(self._starts, self._settings.max_pages):
                if self._leave_out(address) is None:
                    frontier.add(address, 1)
        yielded: set[str] = set()
        reached = False
        for visit in self._crawl(frontier, previous):
            reached = reached or self._was_reached(visit)
            for item in (*self._aliases(visit), visit.item, *self._skipped_links(visit, frontier)):
                if item.id not in yielded:
                    yielded.add(item.id)
                    yield item
        if frontier.exceeded:
            yield self._limit()
        if not reached:
            reason = f"No page could be read from {self._starts[0]}."
            raise SourceUnavailable(next(iter(self._failed.values()), reason))

    def _crawl(self, frontier: Frontier, previous: PreviousItems) -> Iterator[_Visit]:
        """Visit the addresses of the frontier, a few at once; results may add to it."""
        with ThreadPoolExecutor(self.at_once, thread_name_prefix="crawl") as pool:
            running: set[Future[_Visit]] = set()
            try:
                while True:
                    while len(running) < self.at_once and (place := frontier.take()):
                        address, depth = place
                        running.add(pool.submit(self._visit, address, depth, previous))
                    if not running:
                        return
                    done, running = wait(running, return_when=FIRST_COMPLETED)
                    for future in done:
                        yield future.result()
            finally:
                for future in running:
                    future.cancel()

    def _was_reached(self, visit: _Visit) -> bool:
        return not (isinstance(visit.item, Skipped) or visit.address in self._failed)

    def _aliases(self, visit: _Visit) -> Iterator[Skipped]:
        """Yield the addresses that led to a page."""
        for through in visit.through:
            yield Skipped(through, f"leads to {visit.item.id}")

    def _skipped_links(self, visit: _Visit, frontier: Frontier) -> Iterator[Skipped]:
        """Add a page's links to the frontier; yield those that are not followed."""
        for link in visit.links:
            if link in frontier:
                continue
            reason = self._leave_out(link)
            if reason is None and not frontier.add(link, visit.depth + 1):
                reason = "more links deep than the limit"
            if reason is not None:
                frontier.pass_over(link)
                if reason != "of another site":
                    yield Skipped(link, reason)

    def _limit(self) -> Skipped:
        parts = urlsplit(self._starts[0])
        return Skipped(
            f"{parts.scheme}://{parts.netloc}/",
            f"more than {self._settings.max_pages:,} pages; the rest is left",
            keep=True,
        )

    def fetch(self, item: Listed) -> Fetched:
        raise ItemFailed(self._failed.get(item.id, "It could not be fetched."))

    def _leave_out(self, address: str) -> str | None:
        """Why an address is not visited; None when it is."""
        parts = urlsplit(address)
        if parts.netloc not in self._hosts.allowed:
            return "of another site"
        path = parts.path.lstrip("/") + (f"?{parts.query}" if parts.query else "")
        segments = [part for part in parts.path.split("/") if part]
        if len(segments) > 3 and max(segments.count(part) for part in segments) > 3:
            return "an address that repeats itself"
        if address not in self._starts and (reason := self._reason(path or "index")) is not None:
            return reason
        robots = self._hosts.of(address).robots
        if robots is not None and not robots.can_fetch(address, AGENT):
            return "not allowed by robots.txt"
        return None

    # One page

    def _visit(self, address: str, depth: int, previous: PreviousItems) -> _Visit:
        """Go to an address, along its redirects."""
        first = address
        through: list[str] = []
        try:
            for _ in range(_MAX_HOPS):
                before = previous(address)
                response = self._hosts.get(address, self._conditions(before))
                status = response.status_code
                if status in (301, 302, 303, 307, 308):
                    response.close()
                    target = normal_address(urljoin(address, response.headers.get("location", "")))
                    if target is None:
                        return _Visit(address, depth, Skipped(first, "leads nowhere"))
                    if depth == 0:
                        # Where a start page leads is where the site is.
                        self._hosts.allowed.add(_host(target))
                    reason = self._leave_out(target)
                    if reason is not None:
                        return _Visit(
                            address, depth, Skipped(first, f"leads to {target}, {reason}")
                        )
                    if target == address or target in through:
                        return _Visit(address, depth, Skipped(first, "leads in a circle"))
                    through.append(address)
                    address = target
                    continue
                return self._page(address, depth, response, before, tuple(through))
            return _Visit(address, depth, Skipped(first, "leads in a circle"))
        except AddressRefused as error:
            if depth == 0:
                raise
            return _Visit(address, depth, Skipped(first, f"a private address: {error}"))
        except ItemFailed as error:
            return self._failure(address, depth, str(error), previous(address), tuple(through))

    def _failure(
        self,
        address: str,
        depth: int,
        reason: str,
        before: PreviousItem | None,
        through: tuple[str, ...],
    ) -> _Visit:
        """Report a page that could not be fetched; its known links are visited anyway."""
        self._failed[address] = reason
        links = tuple((before.notes or {}).get("links", ())) if before else ()
        return _Visit(address, depth, Listed(address, "", self._name(address)), links, through)

    def _page(
        self,
        address: str,
        depth: int,
        response: Any,
        before: PreviousItem | None,
        through: tuple[str, ...],
    ) -> _Visit:
        status = response.status_code
        if status == 304 and before is not None:
            response.close()
            notes: Mapping[str, Any] = before.notes or {}
            result = Listed(
                notes.get("known_as", address), before.mark, self._name(address), link=address
            )
            return _Visit(address, depth, result, tuple(notes.get("links", ())), through)
        if status != 200:
            response.close()
            if status == 429 or status >= 500:
                return self._failure(address, depth, refusal(response, address), before, through)
            words = {
                401: "asks for a sign-in",
                403: "may not be read",
                404: "is not there",
                410: "is gone",
            }
            return _Visit(
                address,
                depth,
                Skipped(address, f"{words.get(status, 'was refused')} (status {status})"),
                (),
                through,
            )
        media, _, parameters = response.headers.get("content-type", "text/html").partition(";")
        media = media.strip().lower()
        is_page = media in _HTML
        wishes = response.headers.get("x-robots-tag", "").lower()
        if not is_page and not (self._settings.files and media.startswith(_FILES)):
            response.close()
            return _Visit(
                address,
                depth,
                Skipped(address, f"a kind of file that is not read ({media or 'unknown'})"),
                (),
                through,
            )
        data = whole(response, self._most)
        notes = {
            "etag": response.headers.get("etag"),
            "modified": response.headers.get("last-modified"),
        }
        links: tuple[str, ...] = ()
        page = None
        identity = address
        if is_page:
            charset = parameters.rpartition("charset=")[2].strip(" \"'") or None
            page = page_links(data, address, charset if "charset=" in parameters else None)
            links = page.links if page.followed and "nofollow" not in wishes else ()
            if not page.taken:
                return _Visit(
                    address, depth, Skipped(address, "asks robots not to index it"), links, through
                )
            if (
                page.canonical
                and page.canonical != address
                and self._leave_out(page.canonical) is None
            ):
                identity = page.canonical
                notes["known_as"] = identity
        if "noindex" in wishes:
            return _Visit(
                address, depth, Skipped(address, "asks robots not to index it"), links, through
            )
        if (
            not is_page
            and len(data) > 0
            and address in self._starts
            and self._reason(urlsplit(address).path.lstrip("/"))
        ):
            return _Visit(
                address, depth, Skipped(address, "matches no pattern to include"), links, through
            )
        data = self._with_pictures(data, response, page, notes)
        mark = hashlib.sha256(data).hexdigest()[:32]
        kept = {key: value for key, value in notes.items() if value} | (
            {"links": list(links)} if links else {}
        )
        changed = http_moment(response.headers.get("last-modified", ""))
        fetched = Fetched([data], mark=mark, link=identity, notes=kept, changed_at=changed)
        listed = Listed(
            identity, mark, self._name(identity), changed, len(data), link=identity, fetched=fetched
        )
        ways = through if identity == address else (*through, address)
        return _Visit(address, depth, listed, links, ways)

    def _with_pictures(
        self, data: bytes, response: Any, page: PageLinks | None, notes: dict[str, Any]
    ) -> bytes:
        """Return a page with its pictures in one file; as it is if it shows none."""
        if page is None or not self._settings.pictures:
            return data
        found = self._pictures.of(page.pictures)
        notes["pictures"] = True
        if found.incomplete:
            # The next run requests the page again, even if it has not changed.
            del notes["etag"], notes["modified"]
        if not found.pictures:
            return data
        content_type = response.headers.get("content-type", "text/html")
        return write_web_archive(data, content_type, page.base, found.pictures)

    def _conditions(self, before: PreviousItem | None) -> dict[str, str]:
        """Headers that ask for a page only if it changed."""
        if before is None or not before.mark or not before.notes:
            return {}
        if bool(before.notes.get("pictures")) is not self._settings.pictures:
            return {}
        asked = {
            "If-None-Match": before.notes.get("etag"),
            "If-Modified-Since": before.notes.get("modified"),
        }
        return {name: value for name, value in asked.items() if value}

    def _name(self, address: str) -> str:
        """The path of a page as a document's name."""
        parts = urlsplit(address)
        path = parts.path.lstrip("/")
        if not path or path.endswith("/"):
            path += "index.html"
        elif "." not in path.rsplit("/", 1)[-1]:
            path += ".html"
        if parts.query:
            stem, dot, ending = path.rpartition(".")
            path = f"{stem} {hashlib.sha256(parts.query.encode()).hexdigest()[:8]}{dot}{ending}"
        return f"{parts.netloc.replace(':', '-')}/{path}" if self._many_hosts else path


def _host(address: str) -> str:
    return urlsplit(address).netloc


KIND = Kind(
    name="site",
    title="Web site",
    description="Pages of a web site and the documents they link to.",
    settings=SiteSettings,
    credentials=NoCredentials,
    open=lambda s, _, around: Site(s, around),
    reports_unchanged=True,
)
