"""What the proof of an erasure says: where a name still is, and until when backups are kept."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import JSON, String, func, select
from sqlalchemy.orm import Session

from fontanel.records.tables import Backup, BackupState, Base, Erasure

#: Tables of what documents and models say, which is not searched for mentions.
_CONTENTS = frozenset({"passages", "segments", "source_items", "sync_items", "jobs", "tombstones"})


def in_backups_until(session: Session, backup_days: int) -> datetime | None:
    """Return when the last backup of what is there now is deleted; None if there is none."""
    kept = select(func.max(Backup.created_at)).where(
        Backup.state == BackupState.DONE, Backup.deleted_at.is_(None)
    )
    last = session.scalar(kept)
    return None if last is None else last + timedelta(days=backup_days)


def count_mentions(session: Session, *texts: str, team_id: str | None = None) -> dict[str, int]:
    """Count the records that still contain one of the texts, by table.

    They are what others wrote: names of documents, questions, answers.

    Args:
        session: A session of the records.
        texts: What is looked for.
        team_id: The team whose records are searched; None for those of all.
    """
    results: dict[str, int] = {}
    connection = session.connection()
    for table in Base.metadata.sorted_tables:
        columns = [one.name for one in table.columns if isinstance(one.type, String | JSON)]
        if not columns or table.name in _CONTENTS or (team_id and "team_id" not in table.columns):
            continue
        tests = " OR ".join(f'instr("{name}", ?)' for name in columns for _ in texts)
        query = f'SELECT count(*) FROM "{table.name}" WHERE ({tests})'
        values = tuple(texts) * len(columns)
        if team_id:
            query, values = f"{query} AND team_id = ?", (*values, team_id)
        count = connection.exec_driver_sql(query, values).scalar_one()
        if count:
            results[table.name.replace("_", " ")] = int(count)
    return results


def erasures(session: Session, team_id: str | None = None) -> list[Erasure]:
    """Return all erasures, or those of a team's documents, the newest first."""
    query = select(Erasure).order_by(Erasure.created_at.desc())
    return list(
        session.scalars(query if team_id is None else query.where(Erasure.team_id == team_id))
    )
