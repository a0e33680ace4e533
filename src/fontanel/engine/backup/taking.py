"""Taking a backup while the service works.

The databases are copied first, each as it is at one moment (SQLite's backup API within one read
transaction, which stops no writer). Then the files that the copy names: they never change, and
nothing deletes them until the backup is done.
"""

from __future__ import annotations

import shutil
import sqlite3
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from fontanel import __version__
from fontanel.engine.backup.repository import (
    DATABASE_PIECE,
    DATABASES,
    FILE_PIECE,
    BackedUpFile,
    Manifest,
    Repository,
)
from fontanel.records.copies import copy_database
from fontanel.records.tables import now

#: What a backup copies at least before it reports again.
_REPORT_BYTES = 4_000_000
SCRATCH = "backup.part"


@dataclass(slots=True)
class Progress:
    """How far a backup or a restore is, in bytes of the data directory."""

    total: int = 0
    done: int = 0
    files: int = 0


def take_backup(
    data: Path,
    repository: Repository,
    backup_id: str,
    report: Callable[[Progress], None] = lambda progress: None,
) -> Manifest:
    """Back up a data directory; return the manifest.

    Nothing may delete files of the data directory before it returns.

    Args:
        data: The data directory.
        repository: Where to.
        backup_id: From `new_backup_id`.
        report: Called now and then.

    Raises:
        BackupFailed: the place cannot be written.
        OSError: the data directory cannot be read.
    """
    scratch = data / SCRATCH
    shutil.rmtree(scratch, ignore_errors=True)
    scratch.mkdir(mode=0o700)
    try:
        at = now()
        for name in DATABASES:
            copy_database(data / name, scratch / name)
        with closing(sqlite3.connect(scratch / "fontanel.db")) as records:
            return _Taking(data, scratch, repository, report).take(records, backup_id, at)
    finally:
        shutil.rmtree(scratch, ignore_errors=True)


def new_backup_id(at: datetime, suffix: str) -> str:
    """Return an id that sorts by time."""
    return f"{at:%Y%m%dT%H%M%SZ}-{suffix}"


class _Taking:
    def __init__(
        self,
        data: Path,
        scratch: Path,
        repository: Repository,
        report: Callable[[Progress], None],
    ) -> None:
        self._data = data
        self._scratch = scratch
        self._repository = repository
        self._report = report
        self._progress = Progress()
        self._reported = 0
        self._new_bytes = 0

    def take(self, records: sqlite3.Connection, backup_id: str, at: datetime) -> Manifest:
        databases = [self._scratch / name for name in DATABASES]
        files = [self._data / name for name in files_of(records)]
        if self._repository.encrypted:
            # Without encryption it would lie next to what it opens.
            files.append(self._data / "secret.key")
        files = [file for file in files if file.is_file()]
        self._progress.total = sum(path.stat().st_size for path in (*databases, *files))
        known = self._known_files()
        backed_up = [self._database(path) for path in databases]
        backed_up += [self._file(path, known) for path in files]
        manifest = Manifest(
            id=backup_id,
            at=at,
            version=__version__,
            schema=records.execute("SELECT version_num FROM alembic_version").fetchone()[0],
            files=backed_up,
            teams=dict(records.execute("SELECT slug, name FROM teams ORDER BY slug").fetchall()),
            documents=records.execute("SELECT count(*) FROM documents").fetchone()[0],
            passages=records.execute("SELECT count(*) FROM passages").fetchone()[0],
            bytes=self._progress.total,
            new_bytes=self._new_bytes,
            secrets=self._repository.encrypted,
        )
        self._repository.write_manifest(manifest)
        self._report(self._progress)
        return manifest

    def _known_files(self) -> dict[str, BackedUpFile]:
        """Return the files of the last backup that never change, by path."""
        latest = next(iter(self._repository.ids()), None)
        if latest is None:
            return {}
        manifest = self._repository.manifest(latest)
        return {file.path: file for file in manifest.files if file.path.count("/") > 0}

    def _database(self, path: Path) -> BackedUpFile:
        return self._store(path, path.name, DATABASE_PIECE)

    def _file(self, path: Path, known: dict[str, BackedUpFile]) -> BackedUpFile:
        name = path.relative_to(self._data).as_posix()
        size = path.stat().st_size
        before = known.get(name)
        if before is None and name.startswith("blobs/") and size <= FILE_PIECE:
            # A blob of one piece is named by its hash.
            before = BackedUpFile(name, size, [path.name])
        if (
            before is not None
            and before.size == size
            and all(map(self._repository.has, before.pieces))
        ):
            self._advance(size)
            return before
        return self._store(path, name, FILE_PIECE)

    def _store(self, path: Path, name: str, piece: int) -> BackedUpFile:
        pieces, size = [], 0
        with path.open("rb") as file:
            while content := file.read(piece):
                sha256, written = self._repository.store(content)
                pieces.append(sha256)
                self._new_bytes += written
                size += len(content)
                self._advance(len(content))
        self._progress.files += 1
        return BackedUpFile(name, size, pieces)

    def _advance(self, size: int) -> None:
        self._progress.done += size
        if self._progress.done - self._reported >= _REPORT_BYTES:
            self._reported = self._progress.done
            self._report(self._progress)


def files_of(records: sqlite3.Connection) -> list[str]:
    """Return the paths of the files that a database, of any version, names."""
    columns = {row[1] for row in records.execute("PRAGMA table_info(revisions)")}
    originals = "SELECT sha256 FROM revisions"
    if "original_deleted_at" in columns:
        originals += " WHERE original_deleted_at IS NULL"
    blobs = {
        sha256
        for query in (
            originals,
            "SELECT reading FROM revisions",
            "SELECT blob FROM picture_descriptions",
        )
        for (sha256,) in records.execute(query)
        if sha256
    }
    segments = records.execute("SELECT edition_id, id FROM segments").fetchall()
    return [
        *(f"blobs/{sha256[:2]}/{sha256}" for sha256 in sorted(blobs)),
        *(f"editions/{edition}/{segment}" for edition, segment in sorted(segments)),
    ]
