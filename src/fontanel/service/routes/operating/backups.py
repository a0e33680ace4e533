"""Backups, for operators."""

from __future__ import annotations

from sqlalchemy import select

from fontanel.engine.sync.cron import next_time
from fontanel.errors import NotFound
from fontanel.records.tables import Backup, now
from fontanel.schemas import BackupOut, BackupsOut
from fontanel.service.auth.access import Operator, RuntimeDep
from fontanel.service.routers import api_router

router = api_router("/backups", "backups")

_MAX_LISTED = 200


@router.get("", summary="List backups")
def list_backups(caller: Operator, runtime: RuntimeDep) -> BackupsOut:
    """The newest first, with the settings that they are taken by."""
    settings = runtime.settings
    with runtime.records.reading() as session:
        rows = session.scalars(
            select(Backup).order_by(Backup.created_at.desc()).limit(_MAX_LISTED)
        ).all()
    last = rows[0].created_at if rows else None
    due = None
    if settings.backup_schedule:
        due = now() if last is None else next_time(settings.backup_schedule, "UTC", last)
    return BackupsOut(
        place=settings.backup,
        schedule=settings.backup_schedule,
        days=settings.backup_days,
        next_at=due,
        items=[BackupOut.model_validate(row) for row in rows],
    )


@router.post("", status_code=202, summary="Take a backup")
def start_backup(caller: Operator, runtime: RuntimeDep) -> BackupOut:
    """To the place that the settings name, while the service goes on."""
    return BackupOut.model_validate(runtime.backups.start(caller.name))


@router.get("/{backup}", summary="Show a backup")
def show_backup(backup: str, caller: Operator, runtime: RuntimeDep) -> BackupOut:
    with runtime.records.reading() as session:
        row = session.get(Backup, backup)
    if row is None:
        raise NotFound("backup", backup)
    return BackupOut.model_validate(row)
