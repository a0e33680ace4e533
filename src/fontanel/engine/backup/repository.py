"""Backups in a place: contents by hash, and a manifest for each backup.

- `repository.json`: the format, and the salt of an encrypted repository.
- `objects/ab/<name>`: a piece of a file, named by its content: stored once for all backups.
- `backups/<id>`: the manifest of a backup: its files, and the pieces of each. It is written last,
  so that an interrupted backup does not exist.

Files are cut into pieces of fixed sizes. A database changes in place, page by page, so that most of
its pieces stay the same from one backup to the next.
"""

from __future__ import annotations

import hashlib
import json
import secrets
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec

from fontanel.engine.backup.places import BackupFailed, Place, open_place
from fontanel.engine.backup.sealing import Sealing
from fontanel.errors import Refused
from fontanel.settings import Settings

FORMAT = 1
_ABOUT = "repository.json"
_CHECK = b"fontanel backup"
#: The databases of a data directory: they change in place, and are copied as a whole.
DATABASES = ("fontanel.db", "vectors")
#: The size of pieces: of databases, which change a little, and of other files, which never do.
DATABASE_PIECE, FILE_PIECE = 256 * 1024, 8 * 1024 * 1024


class BackedUpFile(msgspec.Struct, frozen=True):
    """A file of the data directory: its path, size, and the SHA-256 of each piece."""

    path: str
    size: int
    pieces: list[str]


class Manifest(msgspec.Struct, frozen=True):
    """What a backup consists of."""

    id: str
    at: datetime
    version: str
    schema: str
    files: list[BackedUpFile]
    teams: dict[str, str]
    documents: int
    passages: int
    bytes: int
    new_bytes: int
    secrets: bool
    format: int = FORMAT


class Repository:
    """The backups in a place.

    Args:
        place: Where they are.
        passphrase: The key; empty for an unencrypted repository.
        create: Whether a repository is created in an empty place.

    Raises:
        Refused: the key is missing or wrong, or the place has no repository.
        BackupFailed: the place cannot be read.
    """

    def __init__(self, place: Place, passphrase: str = "", *, create: bool = False) -> None:
        self._place = place
        stored = place.read(_ABOUT)
        if stored is None and not create:
            raise Refused("FONTANEL_BACKUP", "There are no backups in this place.")
        about = self._create(passphrase) if stored is None else self._read_about(stored)
        if about["encrypted"] and not passphrase:
            raise Refused("FONTANEL_BACKUP_KEY", "These backups are encrypted. Give their key.")
        if passphrase and not about["encrypted"]:
            raise Refused(
                "FONTANEL_BACKUP_KEY",
                "The backups in this place are not encrypted. Use another place for encrypted"
                " ones.",
            )
        self._sealing = Sealing(passphrase, bytes.fromhex(about["salt"]))
        if about["encrypted"]:
            try:
                self._sealing.open(bytes.fromhex(about["check"]))
            except BackupFailed as error:
                raise Refused(
                    "FONTANEL_BACKUP_KEY", "This is not the key of these backups."
                ) from error
        self._stored: set[str] | None = None

    def _create(self, passphrase: str) -> dict[str, Any]:
        salt = secrets.token_bytes(16)
        check = Sealing(passphrase, salt).seal(_CHECK)
        about = {
            "format": FORMAT,
            "encrypted": bool(passphrase),
            "salt": salt.hex(),
            "check": check.hex(),
        }
        self._place.write(_ABOUT, json.dumps(about).encode())
        return about

    @staticmethod
    def _read_about(stored: bytes) -> dict[str, Any]:
        try:
            about: dict[str, Any] = json.loads(stored)
            if about["format"] > FORMAT:
                raise Refused(
                    "FONTANEL_BACKUP",
                    "These backups were made by a newer version. Restore them with that.",
                )
            return {name: about[name] for name in ("encrypted", "salt", "check")}
        except (ValueError, KeyError, TypeError) as error:
            raise Refused("FONTANEL_BACKUP", "The place has something else in it.") from error

    @property
    def encrypted(self) -> bool:
        """Whether the backups are encrypted."""
        return self._sealing.encrypted

    # Contents

    def _object(self, sha256: str) -> str:
        name = self._sealing.name(sha256)
        return f"objects/{name[:2]}/{name}"

    def has(self, sha256: str) -> bool:
        """Return whether a content is stored; the first call lists what there is."""
        if self._stored is None:
            self._stored = set(self._place.names("objects"))
        return self._object(sha256) in self._stored

    def store(self, content: bytes) -> tuple[str, int]:
        """Store a content unless it is there; return its SHA-256 and the bytes written."""
        sha256 = hashlib.sha256(content).hexdigest()
        if self.has(sha256):
            return sha256, 0
        sealed = self._sealing.seal(content)
        name = self._object(sha256)
        self._place.write(name, sealed)
        if self._stored is not None:
            self._stored.add(name)
        return sha256, len(sealed)

    def content(self, sha256: str) -> bytes:
        """Return a content.

        Raises:
            BackupFailed: it is missing or damaged.
        """
        stored = self._place.read(self._object(sha256))
        if stored is None:
            raise BackupFailed("A part of the backup is missing.")
        content = self._sealing.open(stored)
        if hashlib.sha256(content).hexdigest() != sha256:
            raise BackupFailed("A part of the backup is damaged.")
        return content

    def write_file(self, file: BackedUpFile, target: Path) -> None:
        """Restore a file.

        Raises:
            BackupFailed: a part of it is missing or damaged.
        """
        target.parent.mkdir(parents=True, exist_ok=True)
        with target.open("wb") as stream:
            for piece in file.pieces:
                stream.write(self.content(piece))
        if target.stat().st_size != file.size:
            raise BackupFailed(f"{file.path} has another size than when it was backed up.")

    # Backups

    def write_manifest(self, manifest: Manifest) -> None:
        """Add a backup, of which all contents are stored."""
        sealed = self._sealing.seal(msgspec.json.encode(manifest))
        self._place.write(f"backups/{manifest.id}", sealed)

    def ids(self) -> list[str]:
        """Return the backups, the newest first: an id begins with its time."""
        names = self._place.names("backups")
        return sorted((name.rpartition("/")[2] for name in names), reverse=True)

    def manifest(self, backup_id: str) -> Manifest:
        """Return the manifest of a backup.

        Raises:
            Refused: there is no such backup.
            BackupFailed: it is damaged.
        """
        if "/" in backup_id or (stored := self._place.read(f"backups/{backup_id}")) is None:
            raise Refused("backup", f"There is no backup {backup_id[:80]!r} in this place.")
        try:
            return msgspec.json.decode(self._sealing.open(stored), type=Manifest)
        except msgspec.DecodeError as error:
            raise BackupFailed(f"The list of files of {backup_id} is damaged.") from error

    def manifests(self) -> Iterator[Manifest]:
        """Yield the manifests, the newest first."""
        for backup_id in self.ids():
            yield self.manifest(backup_id)

    def delete(self, backup_ids: list[str]) -> int:
        """Delete backups, then what no other one needs; return the deleted objects."""
        for backup_id in backup_ids:
            self._place.delete(f"backups/{backup_id}")
        needed = {
            self._object(piece)
            for manifest in self.manifests()
            for file in manifest.files
            for piece in file.pieces
        }
        deleted = 0
        for name in list(self._place.names("objects")):
            if name not in needed:
                self._place.delete(name)
                deleted += 1
        self._stored = None
        return deleted


def open_repository(settings: Settings, *, create: bool = False) -> Repository:
    """Return the repository that the settings name.

    Raises:
        Refused: a setting is missing or wrong.
        BackupFailed: the place cannot be read.
    """
    key = settings.backup_key.get_secret_value()
    return Repository(open_place(settings), key, create=create)
