"""A WebDAV share (RFC 4918): drives and groupware speak it."""

from __future__ import annotations

from collections.abc import Iterator
from urllib.parse import unquote, urlsplit

import httpx
from defusedxml import ElementTree
from pydantic import Field

from fontanel.sources.network.reach import check_url, http_client, origin_of
from fontanel.sources.network.requests import Requests, basic, bounded, http_moment, refusal, whole
from fontanel.sources.patterns import Patterns, chooser
from fontanel.sources.protocol import (
    Fetched,
    HeaderSecret,
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

_MAX_LISTING = 50_000_000
_MAX_FOLDERS = 100_000
_ASKED = (
    b'<?xml version="1.0" encoding="utf-8"?><d:propfind'
    b' xmlns:d="DAV:"><d:prop><d:resourcetype/><d:getetag/>'
    b"<d:getlastmodified/><d:getcontentlength/></d:prop></d:propfind>"
)


class ShareSettings(Patterns):
    url: str = Field(title="Address of the folder", min_length=1, max_length=2000)


class ShareCredentials(SettingsModel):
    user: str | None = Field(None, title="User name")
    password: str | None = Field(
        None, title="Password", description="An app password, where the server has them."
    )
    token: HeaderSecret | None = Field(
        None, title="Token", description="Instead of name and password, if the server accepts one."
    )


class Share(Source):
    """Files below a WebDAV folder as items by path.

    The mark is the ETag, or time and size.
    """

    def __init__(
        self, settings: ShareSettings, credentials: ShareCredentials, around: SourceLimits
    ) -> None:
        self._settings = settings
        url = check_url(settings.url, "url")
        self._root = url.copy_with(path=url.path.rstrip("/") + "/", query=None, fragment=None)
        self._most = around.max_bytes
        headers = {}
        if credentials.token:
            headers["Authorization"] = f"Bearer {credentials.token}"
        elif credentials.user:
            headers["Authorization"] = basic(credentials.user, credentials.password or "")
        # Credentials are only sent to this server: redirects are not followed.
        self._requests = Requests(http_client(around, headers=headers), around.stopping)
        self._reason = chooser(settings)

    def close(self) -> None:
        self._requests.client.close()

    def items(self, previous: PreviousItems) -> Iterator[Listed | Skipped]:
        todo, seen = [""], {""}
        while todo:
            below = todo.pop()
            for path, is_folder, node in self._folder(below):
                if not is_folder:
                    yield self._file(path, node)
                elif path not in seen:
                    seen.add(path)
                    if len(seen) > _MAX_FOLDERS:
                        raise SourceUnavailable(
                            f"The share has more than {_MAX_FOLDERS:,} folders.", again=False
                        )
                    if self._reason(path + "x") != "hidden":
                        todo.append(path)

    def _folder(self, below: str) -> Iterator[tuple[str, bool, ElementTree.Element]]:
        url = self._url(below)
        headers = {"Depth": "1", "Content-Type": "application/xml; charset=utf-8"}
        try:
            response = self._requests.send("PROPFIND", url, content=_ASKED, headers=headers)
            data = whole(response, _MAX_LISTING)
        except ItemFailed as error:
            raise SourceUnavailable(str(error)) from error
        if response.status_code == 404 and below:
            return  # it went away meanwhile
        if response.status_code != 207:
            raise SourceUnavailable(
                refusal(response, str(url)), again=response.status_code not in (401, 403, 405)
            )
        try:
            root = ElementTree.fromstring(data)
        except (ElementTree.ParseError, ValueError) as error:
            raise SourceUnavailable(f"The answer for {url} is not a WebDAV listing.") from error
        base = unquote(self._root.path)
        for node in root.iterfind("{DAV:}response"):
            path = unquote(urlsplit(node.findtext("{DAV:}href") or "").path)
            if not path.startswith(base) or path.rstrip("/") == (base + below).rstrip("/"):
                continue  # the folder itself, or something elsewhere
            is_folder = node.find(".//{DAV:}resourcetype/{DAV:}collection") is not None
            relative = path.removeprefix(base).rstrip("/")
            if ".." in relative.split("/"):
                continue
            yield relative + ("/" if is_folder else ""), is_folder, node

    def _file(self, path: str, node: ElementTree.Element) -> Listed | Skipped:
        if (reason := self._reason(path)) is not None:
            return Skipped(path, reason)
        length = node.findtext(".//{DAV:}getcontentlength")
        size = int(length) if length and length.isdigit() else None
        if size is not None and size > self._most:
            return Skipped(path, f"larger than {self._most // 1_000_000} MB")
        etag = (node.findtext(".//{DAV:}getetag") or "").strip().removeprefix("W/").strip('"')
        modified = node.findtext(".//{DAV:}getlastmodified") or ""
        mark = etag or (f"{modified}.{size}" if modified else "")
        return Listed(path, mark, path, http_moment(modified), size, link=str(self._url(path)))

    def fetch(self, item: Listed) -> Fetched:
        response = self._requests.send("GET", self._url(item.id))
        if response.status_code != 200:
            response.close()
            raise ItemFailed(refusal(response, item.id))
        return Fetched(bounded(response, self._most))

    def _url(self, path: str) -> httpx.URL:
        return self._root.copy_with(path=self._root.path + path)


KIND = Kind(
    name="webdav",
    title="WebDAV share",
    description="Files of a share on a drive or groupware server that supports WebDAV.",
    settings=ShareSettings,
    credentials=ShareCredentials,
    open=Share,
    destination=lambda s: origin_of(s.url),
)
