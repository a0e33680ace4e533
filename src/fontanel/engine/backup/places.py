"""Where backups are stored: a folder, or a bucket of a store that supports the S3 protocol."""

from __future__ import annotations

import hashlib
import os
import secrets
import time
from abc import ABC, abstractmethod
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import urlsplit

import httpx
from defusedxml import ElementTree

from fontanel.errors import FontanelError, Refused
from fontanel.settings import Settings
from fontanel.sources.network.signing import (
    EMPTY,
    BucketKey,
    canonical_path,
    canonical_query,
    signed_headers,
)

_TRIES = 5
_SECONDS = 60.0
#: Replies after which a request is sent again.
_PASSING = frozenset({408, 429, 500, 502, 503, 504})


class BackupFailed(FontanelError):
    """The place of the backups cannot be read or written, or what is in it is not whole."""


class Place(ABC):
    """Objects by name. A name has only letters, digits, `/`, `-` and `.`."""

    @abstractmethod
    def names(self, prefix: str) -> Iterator[str]:
        """Yield the names that begin with a folder's name and `/`."""

    @abstractmethod
    def read(self, name: str) -> bytes | None:
        """Return an object; None if there is none."""

    @abstractmethod
    def write(self, name: str, data: bytes) -> None:
        """Store an object as a whole or not at all."""

    @abstractmethod
    def delete(self, name: str) -> None:
        """Delete an object, if there is one."""


def open_place(settings: Settings) -> Place:
    """Return the place that the settings name.

    Raises:
        Refused: no place is set, or it is not one.
    """
    address = settings.backup
    if not address:
        raise Refused(
            "FONTANEL_BACKUP",
            "No place for backups is set. Set FONTANEL_BACKUP to a folder, or to"
            " s3://BUCKET/PREFIX.",
        )
    if not address.startswith("s3://"):
        return Folder(Path(address))
    parts = urlsplit(address)
    if not parts.netloc or not settings.backup_endpoint:
        raise Refused(
            "FONTANEL_BACKUP",
            f"{address[:200]!r} needs a bucket, and the store's address in"
            " FONTANEL_BACKUP_ENDPOINT.",
        )
    key = BucketKey(
        settings.backup_access_key,
        settings.backup_secret_key.get_secret_value(),
        settings.backup_region,
    )
    return Bucket(settings.backup_endpoint, parts.netloc, parts.path.strip("/"), key)


class Folder(Place):
    """A folder, on this machine or mounted."""

    def __init__(self, directory: Path) -> None:
        self._directory = directory

    def names(self, prefix: str) -> Iterator[str]:
        top = self._directory / prefix
        for folder, _, files in os.walk(top):
            inside = Path(folder).relative_to(self._directory).as_posix()
            for file in files:
                if not file.endswith(".part"):
                    yield f"{inside}/{file}"

    def read(self, name: str) -> bytes | None:
        try:
            return (self._directory / name).read_bytes()
        except FileNotFoundError:
            return None
        except OSError as error:
            raise _unusable(str(self._directory), error) from error

    def write(self, name: str, data: bytes) -> None:
        target = self._directory / name
        scratch = target.with_name(f"{target.name}.{secrets.token_hex(4)}.part")
        try:
            target.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            try:
                with scratch.open("xb") as file:
                    file.write(data)
                    file.flush()
                    os.fsync(file.fileno())
                scratch.rename(target)
            finally:
                scratch.unlink(missing_ok=True)
        except OSError as error:
            raise _unusable(str(self._directory), error) from error

    def delete(self, name: str) -> None:
        (self._directory / name).unlink(missing_ok=True)


class Bucket(Place):
    """A bucket; requests that fail for a while are sent again."""

    def __init__(self, endpoint: str, bucket: str, prefix: str, key: BucketKey) -> None:
        self._base = httpx.URL(endpoint.rstrip("/"))
        self._root = f"{self._base.path.rstrip('/')}/{bucket}"
        self._prefix = f"{prefix}/" if prefix else ""
        self._key = key
        self._client = httpx.Client(timeout=_SECONDS, limits=httpx.Limits(max_connections=16))

    def names(self, prefix: str) -> Iterator[str]:
        token = ""
        while True:
            query = {"list-type": "2", "max-keys": "1000", "prefix": f"{self._prefix}{prefix}/"}
            query |= {"continuation-token": token} if token else {}
            response = self._send("GET", "", query=query)
            if response.status_code != 200:
                raise self._refused(response)
            root = ElementTree.fromstring(response.content)
            for node in root.iterfind("{*}Contents"):
                yield (node.findtext("{*}Key") or "").removeprefix(self._prefix)
            token = root.findtext("{*}NextContinuationToken") or ""
            if root.findtext("{*}IsTruncated") != "true" or not token:
                return

    def read(self, name: str) -> bytes | None:
        response = self._send("GET", name)
        if response.status_code == 404:
            return None
        if response.status_code != 200:
            raise self._refused(response)
        return response.content

    def write(self, name: str, data: bytes) -> None:
        response = self._send("PUT", name, data)
        if response.status_code not in (200, 201, 204):
            raise self._refused(response)

    def delete(self, name: str) -> None:
        response = self._send("DELETE", name)
        if response.status_code not in (200, 204, 404):
            raise self._refused(response)

    def _send(
        self, method: str, name: str, data: bytes = b"", query: dict[str, str] | None = None
    ) -> httpx.Response:
        path = canonical_path(f"{self._root}/{self._prefix}{name}" if name else self._root)
        pairs = list((query or {}).items())
        target = path + (f"?{canonical_query(pairs)}" if pairs else "")
        url = self._base.copy_with(raw_path=target.encode())
        digest = hashlib.sha256(data).hexdigest() if data else EMPTY
        for attempt in range(_TRIES):
            host = self._base.netloc.decode()
            headers = signed_headers(self._key, method, host, path, pairs, digest)
            try:
                response = self._client.request(method, url, content=data, headers=headers)
            except httpx.TransportError as error:
                if attempt == _TRIES - 1:
                    raise _unusable(str(self._base), error) from error
            else:
                if response.status_code not in _PASSING or attempt == _TRIES - 1:
                    return response
            time.sleep(2.0**attempt / 4)
        raise AssertionError("unreachable")

    def _refused(self, response: httpx.Response) -> BackupFailed:
        try:
            code = ElementTree.fromstring(response.content).findtext("Code") or ""
        except ElementTree.ParseError:
            code = ""
        status = f"{response.status_code} {code}".strip()
        return BackupFailed(f"The store {self._base} refused a request: {status}.")


def _unusable(place: str, error: Exception) -> BackupFailed:
    why = getattr(error, "strerror", None) or str(error)
    return BackupFailed(f"{place} cannot be used for backups: {why}.")
