"""Copies of databases that are in use, and those that are made before an upgrade."""

from __future__ import annotations

import os
import re
import sqlite3
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from fontanel.errors import Refused

#: Where the copies are, in the data directory, and how many stay.
FOLDER, _KEPT = "before-upgrade", 3
_NAME = re.compile(r"(\d{4})-(\d{8}T\d{6}Z)\.db")


def copy_database(source: Path, target: Path) -> None:
    """Copy a SQLite database as it is at one moment, while others write to it.

    Args:
        source: The database.
        target: The copy, in one file.
    """
    with (
        closing(sqlite3.connect(f"file:{source}?mode=ro", uri=True, timeout=30)) as original,
        closing(sqlite3.connect(target)) as copy,
    ):
        original.isolation_level = None
        original.execute("BEGIN")
        # The transaction sees the moment of its first query, to its end.
        original.execute("SELECT count(*) FROM sqlite_master").fetchone()
        original.backup(copy)
        copy.execute("PRAGMA journal_mode=DELETE")


@dataclass(frozen=True, slots=True)
class UpgradeCopy:
    """The records as they were before an upgrade; `schema` is the version of their tables."""

    path: Path
    schema: str
    at: datetime


def copy_before_upgrade(database: Path, schema: str) -> Path:
    """Copy the records before they are migrated; return the copy.

    Args:
        database: The records.
        schema: The version of their tables.
    """
    folder = database.parent / FOLDER
    folder.mkdir(mode=0o700, exist_ok=True)
    target = folder / f"{schema}-{datetime.now(UTC):%Y%m%dT%H%M%SZ}.db"
    scratch = target.with_suffix(".part")
    scratch.unlink(missing_ok=True)
    copy_database(database, scratch)
    _flush(scratch)
    os.replace(scratch, target)
    for old in copies_before_upgrades(database.parent)[_KEPT:]:
        old.path.unlink(missing_ok=True)
    return target


def copies_before_upgrades(data: Path) -> list[UpgradeCopy]:
    """Return the copies in a data directory, the newest first."""
    copies = []
    for path in (data / FOLDER).glob("*.db"):
        if match := _NAME.fullmatch(path.name):
            at = datetime.strptime(match[2], "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
            copies.append(UpgradeCopy(path, match[1], at))
    return sorted(copies, key=lambda one: one.at, reverse=True)


def undo_upgrade(data: Path) -> tuple[UpgradeCopy, Path]:
    """Put back the records from before the last upgrade, for the version that made them.

    Returns:
        The copy that is now in use, and where the records from after the upgrade are.

    Raises:
        Refused: there is no copy.
    """
    copies = copies_before_upgrades(data)
    if not copies:
        raise Refused("data", f"{data} has no copy from before an upgrade.")
    last, database = copies[0], data / "fontanel.db"
    with closing(sqlite3.connect(database)) as records:
        # What is only in the log of the database belongs to the file that is put aside.
        records.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        records.execute("PRAGMA journal_mode=DELETE")
    aside = data / FOLDER / f"undone-{datetime.now(UTC):%Y%m%dT%H%M%SZ}.sqlite"
    os.replace(database, aside)
    os.replace(last.path, database)
    return last, aside


def _flush(path: Path) -> None:
    with path.open("rb") as file:
        os.fsync(file.fileno())
