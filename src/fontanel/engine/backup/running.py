"""Backups of the running service: on request and on a schedule, checked, and kept for some time."""

from __future__ import annotations

import secrets
import shutil
import time
from collections.abc import Callable
from datetime import timedelta

import structlog
from sqlalchemy import select, update

from fontanel.engine.answering.local_models import LocalModels
from fontanel.engine.backup.checking import CHECKED, check_backup
from fontanel.engine.backup.places import BackupFailed, open_place
from fontanel.engine.backup.repository import Manifest, Repository
from fontanel.engine.backup.taking import (
    Hooks,
    Progress,
    Stopped,
    Store,
    new_backup_id,
    take_backup,
)
from fontanel.engine.sync.cron import next_time
from fontanel.errors import Conflict, Refused
from fontanel.records.tables import Backup, BackupState, now
from fontanel.records.unit_of_work import Records
from fontanel.settings import Settings

log = structlog.get_logger()

#: Seconds between two records of a backup's progress.
_REPORTED = 1.0
_INTERRUPTED = "The service was stopped while it ran. What was copied is used by the next one."


def open_repository(settings: Settings, *, create: bool = False) -> Repository:
    """Return the repository that the settings name.

    Raises:
        Refused: a setting is missing or wrong.
        BackupFailed: the place cannot be read.
    """
    key = settings.backup_key.get_secret_value()
    return Repository(open_place(settings), key, create=create)


class Backups:
    """Takes the backups of a service, one at a time."""

    def __init__(
        self,
        records: Records,
        settings: Settings,
        local_models: LocalModels,
        stores: tuple[Store, ...],
        stopping: Callable[[], bool],
    ) -> None:
        self._records = records
        self._settings = settings
        self._local_models = local_models
        self._stores = stores
        self._stopping = stopping
        if settings.backup_schedule:
            next_time(settings.backup_schedule, "UTC", now())
            open_place(settings)

    def recover(self) -> int:
        """End the backups that an earlier run of the service left; return how many."""
        for left in self._settings.data.glob(f"{CHECKED}*"):
            shutil.rmtree(left, ignore_errors=True)
        with self._records.writing() as session:
            running = session.scalars(
                select(Backup).where(Backup.state == BackupState.RUNNING)
            ).all()
            for backup in running:
                backup.state, backup.error = BackupState.FAILED, _INTERRUPTED
                backup.finished_at = now()
        return len(running)

    def start(self, asked_by: str) -> Backup:
        """Queue a backup.

        Raises:
            Refused: no place is set.
            Conflict: one is running.
        """
        open_place(self._settings)
        with self._records.writing() as session:
            active = select(Backup).where(
                Backup.state.in_((BackupState.WAITING, BackupState.RUNNING))
            )
            if session.scalar(active) is not None:
                raise Conflict("A backup is running already.")
            backup = Backup(
                id=new_backup_id(now(), secrets.token_hex(3)),
                state=BackupState.WAITING,
                asked_by=asked_by,
                place=self._settings.backup,
            )
            session.add(backup)
        return backup

    def run_next(self) -> bool:
        """Take a backup that waits or is due; return whether there was one."""
        if not self._settings.backup:
            return False
        self._queue_due()
        with self._records.reading() as session:
            waiting = select(Backup.id).where(Backup.state == BackupState.WAITING)
            backup_id = session.scalar(waiting.order_by(Backup.created_at).limit(1))
        if backup_id is None:
            return False
        self._run(backup_id)
        return True

    def _queue_due(self) -> None:
        schedule = self._settings.backup_schedule
        if not schedule:
            return
        with self._records.reading() as session:
            last = session.scalar(select(Backup).order_by(Backup.created_at.desc()).limit(1))
        if last is not None and last.state in (BackupState.WAITING, BackupState.RUNNING):
            return
        # Without one before, the first is due now.
        if last is None or next_time(schedule, "UTC", last.created_at) <= now():
            self.start("schedule")

    def _run(self, backup_id: str) -> None:
        self._change(backup_id, state=BackupState.RUNNING)
        try:
            repository = open_repository(self._settings, create=True)
            manifest = self._take(backup_id, repository)
            checked = check_backup(repository, manifest, self._local_models, self._settings.data)
        except Stopped:
            return
        except (BackupFailed, Refused, OSError) as error:
            log.error("backup failed", backup=backup_id, error=str(error))
            self._change(backup_id, state=BackupState.FAILED, error=str(error), finished_at=now())
            return
        self._change(
            backup_id,
            state=BackupState.DONE,
            encrypted=repository.encrypted,
            done=manifest.bytes,
            new=manifest.new_bytes,
            files=len(manifest.files),
            documents=manifest.documents,
            checked=checked,
            finished_at=now(),
        )
        log.info("backup taken", backup=backup_id, bytes=manifest.bytes, new=manifest.new_bytes)
        self._delete_old(repository)

    def _take(self, backup_id: str, repository: Repository) -> Manifest:
        reported = 0.0

        def report(progress: Progress) -> None:
            nonlocal reported
            if time.monotonic() - reported >= _REPORTED:
                reported = time.monotonic()
                self._change(
                    backup_id, total=progress.total, done=progress.done, files=progress.files
                )

        hooks = Hooks(self._stores, report, self._stopping)
        return take_backup(self._settings.data, repository, hooks, backup_id)

    def _change(self, backup_id: str, **values: object) -> None:
        with self._records.writing() as session:
            session.execute(update(Backup).where(Backup.id == backup_id).values(**values))

    def _delete_old(self, repository: Repository) -> None:
        """Delete the backups that are older than they are kept; the newest always stays."""
        oldest = new_backup_id(now() - timedelta(days=self._settings.backup_days), "")
        old = [one for one in repository.ids()[1:] if one < oldest]
        if not old:
            return
        try:
            repository.delete(old, self._stopping)
        except (BackupFailed, OSError) as error:
            log.warning("old backups were not deleted", error=str(error))
            return
        with self._records.writing() as session:
            session.execute(update(Backup).where(Backup.id.in_(old)).values(deleted_at=now()))
