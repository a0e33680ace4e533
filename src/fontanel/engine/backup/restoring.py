"""Restoring a backup into a new data directory: all of it, or one team."""

from __future__ import annotations

import os
import shutil
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from fontanel.engine.backup.repository import DATABASES, Manifest, Repository
from fontanel.engine.backup.taking import Progress, files_of
from fontanel.errors import Refused
from fontanel.records.database import newest_schema


def restore(
    repository: Repository,
    manifest: Manifest,
    target: Path,
    team: str | None = None,
    report: Callable[[Progress], None] = lambda progress: None,
) -> None:
    """Restore a backup, as a whole or not at all.

    Args:
        repository: Where it is.
        manifest: The backup.
        target: The data directory to create.
        team: The id or short name of the only team to restore.
        report: Called after each file.

    Raises:
        Refused: the directory is in use, the backup is of a newer version, or has no such team.
        BackupFailed: a part of it is missing or damaged.
    """
    if target.exists() and any(target.iterdir()):
        raise Refused("target", f"{target} is not empty. Restore into a new directory.")
    if manifest.schema > newest_schema():
        raise Refused(
            "backup",
            f"The backup was made by version {manifest.version}, which is newer than this one."
            " Restore it with that version.",
        )
    scratch = target.with_name(f"{target.name}.part")
    shutil.rmtree(scratch, ignore_errors=True)
    scratch.mkdir(parents=True, mode=0o700)
    try:
        _fill(repository, manifest, scratch, team, report)
        if target.exists():
            target.rmdir()
        os.replace(scratch, target)
    finally:
        shutil.rmtree(scratch, ignore_errors=True)


def _fill(
    repository: Repository,
    manifest: Manifest,
    scratch: Path,
    team: str | None,
    report: Callable[[Progress], None],
) -> None:
    files = {file.path: file for file in manifest.files}
    for name in DATABASES:
        repository.write_file(files[name], scratch / name)
    if team is not None:
        keep_only(scratch, team)
        with closing(sqlite3.connect(scratch / "fontanel.db")) as records:
            needed = {*files_of(records), "secret.key"}
        rest = [file for name, file in files.items() if name in needed]
    else:
        rest = [file for name, file in files.items() if name not in DATABASES]
    progress = Progress(total=sum(file.size for file in rest))
    report(progress)
    for file in rest:
        repository.write_file(file, scratch / file.path)
        progress.done += file.size
        progress.files += 1
        report(progress)
    if (scratch / "secret.key").is_file():
        (scratch / "secret.key").chmod(0o600)


def keep_only(data: Path, team: str) -> None:
    """Delete all teams but one, and the people who are not in it, from a copy.

    Raises:
        Refused: there is no such team.
    """
    with closing(sqlite3.connect(data / "fontanel.db")) as records:
        records.isolation_level = None
        row = records.execute(
            "SELECT id FROM teams WHERE id = ? OR slug = ?", (team, team)
        ).fetchone()
        if row is None:
            raise Refused("team", f"The backup has no team {team[:80]!r}.")
        (team_id,) = row
        records.execute("PRAGMA foreign_keys=ON")
        records.execute("BEGIN IMMEDIATE")
        records.execute("DELETE FROM teams WHERE id != ?", (team_id,))
        records.execute(
            "DELETE FROM people WHERE NOT operator AND id NOT IN"
            " (SELECT person_id FROM members WHERE team_id = ?)",
            (team_id,),
        )
        records.execute("DELETE FROM erasures WHERE team_id IS NULL OR team_id != ?", (team_id,))
        # The logs of others go; triggers only allow what counts as trimmed.
        records.execute("UPDATE audit_logs SET trimmed = number WHERE log != ?", (team_id,))
        records.execute("DELETE FROM audit_entries WHERE log != ?", (team_id,))
        records.execute("DELETE FROM audit_logs WHERE log != ?", (team_id,))
        records.execute("COMMIT")
        # Deleted rows stay readable in the file until then.
        records.execute("VACUUM")
    with closing(sqlite3.connect(data / "vectors")) as vectors:
        vectors.isolation_level = None
        vectors.execute("DELETE FROM team_vectors WHERE team_id != ?", (team_id,))
        vectors.execute("VACUUM")
