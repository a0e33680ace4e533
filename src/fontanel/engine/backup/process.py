"""Backups in a process of lower priority, so that nobody waits for them.

`python -m fontanel.engine.backup.process` reads from stdin what to do, and writes to stdout how far
it is. It ends with the service.
"""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
from collections.abc import Callable, Generator
from datetime import timedelta
from pathlib import Path
from typing import IO

from pydantic import SecretStr

from fontanel.engine.answering.local_models import LocalModels
from fontanel.engine.backup.checking import check_backup
from fontanel.engine.backup.places import BackupFailed
from fontanel.engine.backup.repository import Repository, open_repository
from fontanel.engine.backup.taking import Progress, new_backup_id, take_backup
from fontanel.engine.workers.framing import Failed, Message, receive, send
from fontanel.engine.workers.lifetime import die_with_parent
from fontanel.engine.workers.processes import ErrorOutput, start_process, wait_readable
from fontanel.errors import Refused
from fontanel.records.tables import now
from fontanel.settings import Settings

#: How much lower than the service's the priority of the process is, as that of other workers.
_NICE = 5
#: Seconds between two looks at whether the service stops, and what the process has to end then.
_LOOK, _END = 0.5, 5.0


class Stopped(Exception):
    """The service is stopping; the backup was not made."""


class TakeBackup(Message):
    """Take a backup, check it, and delete the old ones."""

    id: str
    data: str
    embedder: str
    evidence: str
    place: str
    passphrase: str
    endpoint: str
    region: str
    access_key: str
    secret_key: str
    days: int


class Copied(Message):
    """How far the backup is, in bytes of the data directory and in files."""

    total: int
    done: int
    files: int


class Taken(Message):
    """The backup exists; files of the data directory may be deleted again."""

    encrypted: bool
    bytes: int
    new_bytes: int
    files: int
    documents: int


class Checked(Message):
    """The backup was opened and asked; `result` is for people."""

    result: str


class OldDeleted(Message):
    """The backups that were older than they are kept."""

    backups: list[str]
    error: str = ""


Reply = Copied | Taken | Checked | OldDeleted


def back_up(
    settings: Settings, backup_id: str, stopping: Callable[[], bool]
) -> Generator[Reply, None, None]:
    """Take a backup in another process; yield what it reports, `OldDeleted` last.

    Args:
        settings: The service's.
        backup_id: From `new_backup_id`.
        stopping: Whether the service is stopping.

    Raises:
        Stopped: the service is stopping.
        BackupFailed: the backup failed; the message is for people.
    """
    command = [sys.executable, "-m", "fontanel.engine.backup.process"]
    process = start_process(command, stderr=subprocess.PIPE)
    assert process.stdin is not None
    assert process.stdout is not None
    assert process.stderr is not None
    errors = ErrorOutput(process.stderr)
    try:
        with contextlib.suppress(BrokenPipeError):
            send(process.stdin, _request(settings, backup_id))
        while True:
            reply = _next_reply(process.stdout, stopping)
            if reply is None:
                process.kill()
                reason = errors.text()[-500:] or "it was killed"
                raise BackupFailed(f"The process that took the backup ended: {reason}")
            if isinstance(reply, Failed):
                raise BackupFailed(reply.error)
            yield reply
            if isinstance(reply, OldDeleted):
                return
    finally:
        _end(process)


def _request(settings: Settings, backup_id: str) -> TakeBackup:
    return TakeBackup(
        id=backup_id,
        data=str(settings.data),
        embedder=str(settings.embedder_directory),
        evidence=str(settings.evidence_directory),
        place=settings.backup,
        passphrase=settings.backup_key.get_secret_value(),
        endpoint=settings.backup_endpoint,
        region=settings.backup_region,
        access_key=settings.backup_access_key,
        secret_key=settings.backup_secret_key.get_secret_value(),
        days=settings.backup_days,
    )


def _next_reply(stdout: IO[bytes], stopping: Callable[[], bool]) -> Reply | Failed | None:
    while not wait_readable(stdout, _LOOK):
        if stopping():
            raise Stopped
    return receive(stdout, Reply | Failed)


def _end(process: subprocess.Popen[bytes]) -> None:
    """End the process, which then removes what it has in progress."""
    process.terminate()
    try:
        process.wait(timeout=_END)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
    for pipe in (process.stdin, process.stdout, process.stderr):
        if pipe is not None:
            with contextlib.suppress(OSError):
                pipe.close()


# In the other process


def main() -> None:
    """Take the backup that stdin describes."""
    die_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, lambda number, frame: sys.exit(1))
    os.nice(_NICE)
    requests, replies = sys.stdin.buffer, os.fdopen(os.dup(sys.stdout.fileno()), "wb")
    # Whatever prints must not disturb the replies.
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())
    request = receive(requests, TakeBackup)
    if request is not None:
        _serve(request, lambda reply: send(replies, reply))


def _serve(request: TakeBackup, reply: Callable[[Message], None]) -> None:
    def report(progress: Progress) -> None:
        reply(Copied(total=progress.total, done=progress.done, files=progress.files))

    settings = Settings(
        data=Path(request.data),
        embedder=Path(request.embedder),
        evidence=Path(request.evidence),
        backup=request.place,
        backup_key=SecretStr(request.passphrase),
        backup_endpoint=request.endpoint,
        backup_region=request.region,
        backup_access_key=request.access_key,
        backup_secret_key=SecretStr(request.secret_key),
    )
    try:
        repository = open_repository(settings, create=True)
        manifest = take_backup(settings.data, repository, request.id, report)
        reply(
            Taken(
                encrypted=repository.encrypted,
                bytes=manifest.bytes,
                new_bytes=manifest.new_bytes,
                files=len(manifest.files),
                documents=manifest.documents,
            )
        )
        models = LocalModels(settings.embedder_directory, settings.evidence_directory)
        reply(Checked(result=check_backup(repository, manifest, models, settings.data)))
    except (BackupFailed, Refused, OSError) as error:
        reply(Failed(code="damaged", error=str(error)))
        return
    reply(_delete_old(repository, request.days))


def _delete_old(repository: Repository, days: int) -> OldDeleted:
    """Delete the backups that are older than they are kept; the newest always stays."""
    oldest = new_backup_id(now() - timedelta(days=days), "")
    old = [one for one in repository.ids()[1:] if one < oldest]
    if not old:
        return OldDeleted(backups=[])
    try:
        repository.delete(old)
    except (BackupFailed, OSError) as error:
        return OldDeleted(backups=[], error=str(error))
    return OldDeleted(backups=old)


if __name__ == "__main__":
    main()
