"""Backups of the running service: on request and on a schedule, checked, and kept for some time."""

from __future__ import annotations

import secrets
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, closing, contextmanager
from typing import Protocol

import structlog
from sqlalchemy import select, update

from fontanel.engine.backup.checking import CHECKED
from fontanel.engine.backup.places import BackupFailed, open_place
from fontanel.engine.backup.process import Checked, Copied, OldDeleted, Stopped, Taken, back_up
from fontanel.engine.backup.taking import new_backup_id
from fontanel.engine.sync.cron import next_time
from fontanel.errors import Conflict
from fontanel.records.tables import Backup, BackupState, now
from fontanel.records.unit_of_work import Records
from fontanel.settings import Settings

log = structlog.get_logger()

#: Seconds between two records of a backup's progress.
_RECORDED = 1.0
_INTERRUPTED = "The service was stopped while it ran. What was copied is used by the next one."


class Store(Protocol):
    """What deletes files of the data directory."""

    def keep(self) -> None:
        """Delete nothing until `release`."""

    def release(self) -> None:
        """Delete again."""


@contextmanager
def _kept(store: Store) -> Iterator[None]:
    store.keep()
    try:
        yield
    finally:
        store.release()


class Backups:
    """Takes the backups of a service, one at a time."""

    def __init__(
        self,
        records: Records,
        settings: Settings,
        stores: tuple[Store, ...],
        stopping: Callable[[], bool],
    ) -> None:
        self._records = records
        self._settings = settings
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
            self._follow(backup_id)
        except Stopped:
            return
        except (BackupFailed, OSError) as error:
            log.error("backup failed", backup=backup_id, error=str(error))
            self._change(backup_id, state=BackupState.FAILED, error=str(error), finished_at=now())

    def _follow(self, backup_id: str) -> None:
        """Have a backup taken, and record how far it is and what it consists of."""
        recorded = 0.0
        taken = Taken(encrypted=False, bytes=0, new_bytes=0, files=0, documents=0)
        replies = back_up(self._settings, backup_id, self._stopping)
        with ExitStack() as stack, closing(replies):
            for store in self._stores:
                stack.enter_context(_kept(store))
            for reply in replies:
                if isinstance(reply, Copied) and time.monotonic() - recorded >= _RECORDED:
                    recorded = time.monotonic()
                    self._change(backup_id, total=reply.total, done=reply.done, files=reply.files)
                elif isinstance(reply, Taken):
                    stack.close()
                    taken = reply
                elif isinstance(reply, Checked):
                    self._finish(backup_id, taken, reply.result)
                elif isinstance(reply, OldDeleted):
                    self._record_deleted(reply)

    def _finish(self, backup_id: str, taken: Taken, checked: str) -> None:
        self._change(
            backup_id,
            state=BackupState.DONE,
            encrypted=taken.encrypted,
            done=taken.bytes,
            new=taken.new_bytes,
            files=taken.files,
            documents=taken.documents,
            checked=checked,
            finished_at=now(),
        )
        log.info("backup taken", backup=backup_id, bytes=taken.bytes, new=taken.new_bytes)

    def _record_deleted(self, deleted: OldDeleted) -> None:
        if deleted.error:
            log.warning("old backups were not deleted", error=deleted.error)
        if deleted.backups:
            deleting = update(Backup).where(Backup.id.in_(deleted.backups))
            with self._records.writing() as session:
                session.execute(deleting.values(deleted_at=now()))

    def _change(self, backup_id: str, **values: object) -> None:
        with self._records.writing() as session:
            session.execute(update(Backup).where(Backup.id == backup_id).values(**values))
