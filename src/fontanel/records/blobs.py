"""The blob store: bytes by their sha256, written whole or not at all."""

from __future__ import annotations

import hashlib
import os
import secrets
import time
from collections.abc import Iterable
from pathlib import Path

_HEX = frozenset("0123456789abcdef")


class BlobStore:
    """Blobs below one directory, at `ab/<sha256>`."""

    def __init__(self, directory: Path) -> None:
        self._directory = directory
        self._kept = 0
        (directory / "incoming").mkdir(parents=True, exist_ok=True)

    def path(self, sha256: str) -> Path:
        """Return the path of a blob.

        Raises:
            ValueError: the name is not a SHA-256 in lower-case hexadecimal.
        """
        if len(sha256) != 64 or not _HEX.issuperset(sha256):
            raise ValueError(f"{sha256[:80]!r} is not the sha256 of a blob")
        return self._directory / sha256[:2] / sha256

    def put(self, chunks: Iterable[bytes]) -> tuple[str, int]:
        """Store chunks; return their SHA-256 and size.

        An interrupted iteration leaves nothing.
        """
        scratch = self._directory / "incoming" / secrets.token_hex(16)
        digest, size = hashlib.sha256(), 0
        try:
            with scratch.open("wb") as file:
                for chunk in chunks:
                    digest.update(chunk)
                    size += len(chunk)
                    file.write(chunk)
                file.flush()
                os.fsync(file.fileno())
            target = self.path(digest.hexdigest())
            target.parent.mkdir(exist_ok=True)
            scratch.rename(target)
        finally:
            scratch.unlink(missing_ok=True)
        return digest.hexdigest(), size

    def read(self, sha256: str) -> bytes:
        return self.path(sha256).read_bytes()

    def keep(self) -> None:
        """Delete nothing until `release`, which must be called as often."""
        self._kept += 1

    def release(self) -> None:
        """Delete again."""
        self._kept -= 1

    def delete(self, sha256: str, older_than: float) -> bool:
        """Delete a blob that nothing refers to; return whether it is gone.

        It stays while blobs are kept, and while it is younger than `older_than` seconds: it may
        just have been stored again, by an upload that is not recorded yet.
        """
        path = self.path(sha256)
        try:
            if self._kept or time.time() - path.stat().st_mtime <= older_than:
                return False
            path.unlink()
        except FileNotFoundError:
            pass
        return True

    def sweep(self, kept: set[str], older_than: float) -> int:
        """Delete old unfinished uploads, and old blobs not in `kept`; return how many."""
        removed = 0
        if self._kept:
            return 0
        for path in self._directory.glob("*/*"):
            if (
                path.parent.name == "incoming" or path.name not in kept
            ) and time.time() - path.stat().st_mtime > older_than:
                path.unlink(missing_ok=True)
                removed += 1
        return removed
