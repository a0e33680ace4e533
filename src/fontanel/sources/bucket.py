"""A bucket of a store that supports the S3 protocol."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

import httpx
from defusedxml import ElementTree
from pydantic import Field

from fontanel.sources.network.reach import check_url, http_client, origin_of
from fontanel.sources.network.requests import Requests, bounded, refusal, whole
from fontanel.sources.network.signing import (
    EMPTY,
    BucketKey,
    canonical_path,
    canonical_query,
    signed_headers,
)
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

_MAX_LISTING = 20_000_000


class BucketSettings(Patterns):
    endpoint: str = Field(
        title="Address of the store",
        min_length=1,
        max_length=2000,
        description="For instance `https://store.skerrow.example`.",
    )
    bucket: str = Field(title="Bucket", min_length=1, max_length=255, pattern=r"^[\w.-]+$")
    prefix: str = Field(
        "",
        title="Below",
        max_length=1000,
        description="Only keys that begin so, for instance `manuals/`.",
    )
    region: str = Field(
        "us-east-1", title="Region", min_length=1, max_length=60, pattern=r"^[\w-]+$"
    )


class BucketCredentials(SettingsModel):
    access_key: HeaderSecret | None = Field(
        None, title="Access key", description="Without one the bucket must be public."
    )
    secret_key: str | None = Field(None, title="Secret key")
    session_token: HeaderSecret | None = Field(
        None, title="Session token", description="Only for temporary keys."
    )


class Bucket(Source):
    """Objects of a bucket as items by key; the mark is the ETag with the size.

    The bucket is named in the path, which every compatible store accepts.
    """

    at_once = 8

    def __init__(
        self, settings: BucketSettings, credentials: BucketCredentials, around: SourceLimits
    ) -> None:
        self._settings = settings
        self._credentials = credentials
        self._base = check_url(settings.endpoint.rstrip("/"), "endpoint")
        self._most = around.max_bytes
        self._requests = Requests(http_client(around), around.stopping)
        self._reason = chooser(settings)

    def close(self) -> None:
        self._requests.client.close()

    def items(self, previous: PreviousItems) -> Iterator[Listed | Skipped]:
        token = ""
        while True:
            query = {"list-type": "2", "max-keys": "1000", "prefix": self._settings.prefix}
            if token:
                query["continuation-token"] = token
            root = self._listing(query)
            for node in root.iterfind("{*}Contents"):
                if (result := self._object(node)) is not None:
                    yield result
            token = root.findtext("{*}NextContinuationToken") or ""
            if root.findtext("{*}IsTruncated") != "true":
                return
            if not token:
                raise SourceUnavailable("The store says that there is more but not how to go on.")

    def _listing(self, query: dict[str, str]) -> ElementTree.Element:
        try:
            response = self._send("", query)
            data = whole(response, _MAX_LISTING)
        except ItemFailed as error:
            raise SourceUnavailable(str(error)) from error
        if response.status_code != 200:
            raise SourceUnavailable(
                _said(response, data, f"The bucket {self._settings.bucket}"),
                again=response.status_code >= 429,
            )
        try:
            root = ElementTree.fromstring(data)
        except (ElementTree.ParseError, ValueError) as error:
            raise SourceUnavailable("The store's answer is not a listing.") from error
        if not root.tag.endswith("ListBucketResult"):
            raise SourceUnavailable("The store's answer is not a listing.")
        return root

    def _object(self, node: ElementTree.Element) -> Listed | Skipped | None:
        key = node.findtext("{*}Key") or ""
        size = int(node.findtext("{*}Size") or 0)
        etag = (node.findtext("{*}ETag") or "").strip('"')
        name = key.removeprefix(self._settings.prefix).lstrip("/") or key
        if key.endswith("/"):
            return None  # a marker of a folder
        if (reason := self._reason(name)) is not None:
            return Skipped(key, reason)
        if size > self._most:
            return Skipped(key, f"larger than {self._most // 1_000_000} MB")
        changed = _moment(node.findtext("{*}LastModified"))
        mark = f"{etag}.{size}" if etag else ""
        return Listed(key, mark, name, changed, size, mark)

    def fetch(self, item: Listed) -> Fetched:
        response = self._send("/" + item.id, {})
        if response.status_code != 200:
            response.close()
            raise ItemFailed(refusal(response, item.id))
        etag = response.headers.get("etag", "").strip('"')
        size = response.headers.get("content-length", "")
        mark = f"{etag}.{size}" if etag and size else None
        return Fetched(bounded(response, self._most), mark=mark)

    def _send(self, path: str, query: dict[str, str]) -> httpx.Response:
        whole_path = canonical_path(f"{self._base.path.rstrip('/')}/{self._settings.bucket}{path}")
        pairs = list(query.items())

        def build() -> httpx.Request:
            url = self._base.copy_with(
                raw_path=(whole_path + ("?" + canonical_query(pairs) if pairs else "")).encode()
            )
            return self._requests.client.build_request(
                "GET", url, headers=self._signed(whole_path, pairs)
            )

        return self._requests.send("GET", self._base, build=build)

    def _signed(self, path: str, query: list[tuple[str, str]]) -> dict[str, str]:
        credentials = self._credentials
        if not credentials.access_key or not credentials.secret_key:
            return {"x-amz-content-sha256": EMPTY}
        key = BucketKey(
            credentials.access_key,
            credentials.secret_key,
            self._settings.region,
            credentials.session_token or "",
        )
        return signed_headers(key, "GET", self._base.netloc.decode(), path, query)


def _moment(text: str | None) -> float | None:
    try:
        return datetime.fromisoformat(text).timestamp() if text else None
    except ValueError:
        return None


def _said(response: httpx.Response, data: bytes, what: str) -> str:
    """Return why a store rejected a request, with its own code if there is one."""
    try:
        code = ElementTree.fromstring(data).findtext("{*}Code") or ElementTree.fromstring(
            data
        ).findtext("Code")
    except (ElementTree.ParseError, ValueError):
        code = None
    return refusal(response, what) + (f" It says: {code}." if code else "")


KIND = Kind(
    name="bucket",
    title="Bucket",
    description="Objects of a bucket in any store that supports the S3 protocol.",
    settings=BucketSettings,
    credentials=BucketCredentials,
    open=Bucket,
    destination=lambda s: origin_of(s.endpoint),
)
