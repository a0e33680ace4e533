"""Snapshots: what a data directory has at a moment, to answer from while another process uses it.

A snapshot is a directory below the data directory with a copy of the records, links to the segments
that they name, and a link to the files of documents. The process that serves it answers questions
while the one that it was taken from is stopped, upgraded, or goes on.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

from fontanel.errors import Unavailable
from fontanel.records.copies import copy_database
from fontanel.settings import Settings

#: Where snapshots are, in the data directory.
FOLDER = "snapshots"
#: How often the records are copied again because segments that they name have been merged.
_TRIES = 5


def in_use(data: Path) -> bool:
    """Return whether a process uses a data directory."""
    try:
        file = (data / "lock").open("rb")
    except FileNotFoundError:
        return False
    with file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            return True
    return False


def take_snapshot(settings: Settings) -> Settings:
    """Take a snapshot of a data directory in use; return the settings to serve it with.

    Raises:
        Unavailable: the indexes change too fast.
    """
    data = settings.data.resolve()
    remove_old_snapshots(data)
    target = data / FOLDER / str(os.getpid())
    target.mkdir(mode=0o700, parents=True)
    for _ in range(_TRIES):
        (target / "fontanel.db").unlink(missing_ok=True)
        copy_database(data / "fontanel.db", target / "fontanel.db")
        if _link_segments(data, target):
            break
    else:
        shutil.rmtree(target)
        raise Unavailable(f"The indexes in {data} change too fast for a snapshot. Try again.")
    (target / "blobs").symlink_to(data / "blobs", target_is_directory=True)
    if (data / "secret.key").is_file():
        shutil.copy2(data / "secret.key", target / "secret.key")
    return settings.model_copy(
        update={
            "data": target,
            "embedder": settings.embedder_directory.resolve(),
            "evidence": settings.evidence_directory.resolve(),
        }
    )


def remove_snapshot(settings: Settings) -> None:
    """Remove a snapshot that is no longer served."""
    shutil.rmtree(settings.data, ignore_errors=True)


def remove_old_snapshots(data: Path) -> None:
    """Remove snapshots whose process was killed."""
    for old in (data / FOLDER).glob("*"):
        alive = old.name.isdigit() and Path(f"/proc/{old.name}").exists()
        if not in_use(old) and not (alive and not (old / "lock").exists()):
            shutil.rmtree(old, ignore_errors=True)


def _link_segments(data: Path, target: Path) -> bool:
    """Link the files that the copied records name; return whether all were there."""
    with closing(sqlite3.connect(target / "fontanel.db")) as records:
        segments = records.execute("SELECT edition_id, id FROM segments").fetchall()
    for edition, segment in segments:
        link = target / "editions" / edition / segment
        link.parent.mkdir(parents=True, exist_ok=True)
        with contextlib.suppress(FileExistsError):
            try:
                os.link(data / "editions" / edition / segment, link)
            except FileNotFoundError:
                return False
    return True
