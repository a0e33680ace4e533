"""Examining the directory, the records and the outside services of an installation.

Findings name checks, counts and servers that operators set up; never documents, questions or
secrets, so that they can be passed on.
"""

from __future__ import annotations

import os
import shutil
import sqlite3
import stat
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session

from fontanel import __version__
from fontanel.engine.answering.local_models import LocalModels
from fontanel.engine.cluster.connection import look_at
from fontanel.engine.cluster.tasks import Needs
from fontanel.engine.doctor.findings import Finding, ok, problem, warning
from fontanel.errors import SecretUnreadable
from fontanel.records.tables import (
    AuditEntry,
    Backup,
    BackupState,
    Base,
    Channel,
    Delivery,
    Document,
    DocumentState,
    Edition,
    Embedder,
    Job,
    JobState,
    Kb,
    Receiver,
    Revision,
    Segment,
    Source,
    TextModel,
    Transcriber,
    Turn,
    now,
)
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault
from fontanel.settings import Settings

_GB = 1_000_000_000
#: A database's log that is larger than this has not been written back for long.
_LARGE_LOG = 256_000_000
#: How far a record may lie in the future.
_CLOCK = timedelta(minutes=2)
#: Jobs and deliveries that wait longer than this are worth a look.
_LONG = timedelta(hours=1)


@dataclass(frozen=True, slots=True)
class Examined:
    """What is examined."""

    settings: Settings
    records: Records
    vault: Vault
    local_models: LocalModels


def examine(what: Examined) -> list[Finding]:
    """Examine an installation; a check that fails itself is a finding too."""
    findings: list[Finding] = []
    for check in _CHECKS:
        try:
            findings += check(what)
        except Exception as error:
            name = check.__name__.strip("_").replace("_", " ")
            text = f"The check failed: {type(error).__name__}: {error}"
            findings.append(problem(name, text, "Report this with the support bundle."))
    return findings


def _data_directory(what: Examined) -> Iterator[Finding]:
    data, name = what.settings.data, "data directory"
    mode = stat.S_IMODE(data.stat().st_mode)
    if not os.access(data, os.W_OK):
        yield problem(name, f"{data} cannot be written.", "Give it to the service's user.")
    elif mode & 0o077:
        yield warning(name, f"{data} can be read by others.", f"Run: chmod 700 {data}")
    else:
        yield ok(name, f"{data} is the service's own.")
    key = data / "secret.key"
    if key.is_file() and stat.S_IMODE(key.stat().st_mode) & 0o077:
        yield problem(name, "secret.key can be read by others.", f"Run: chmod 600 {key}")
    if os.geteuid() == 0:
        yield warning(
            name, "The service runs as root.", "Run it as a user that owns the data directory only."
        )


def _disk(what: Examined) -> Iterator[Finding]:
    usage = shutil.disk_usage(what.settings.data)
    text = f"{usage.free / _GB:.1f} GB of {usage.total / _GB:.1f} GB are free."
    if usage.free < what.settings.min_free_mb * 1_000_000:
        yield problem("disk", f"{text} Uploads are refused.", "Free space on the disk.")
    elif usage.free < usage.total / 10:
        yield warning("disk", text, "Free space before uploads are refused.")
    else:
        yield ok("disk", text)


def _database(what: Examined) -> Iterator[Finding]:
    for name in ("fontanel.db", "vectors"):
        path = what.settings.data / name
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=30)) as database:
            (result,) = database.execute("PRAGMA quick_check(1)").fetchone()
        size = path.stat().st_size
        if result != "ok":
            advice = (
                "Restore a backup."
                if name == "fontanel.db"
                else "Stop the service and delete the file: it is a cache."
            )
            yield problem("database", f"{name} is damaged: {result}", advice)
        else:
            yield ok("database", f"{name} is whole ({size / 1e6:.1f} MB).")
        log = path.with_name(f"{name}-wal")
        if log.is_file() and log.stat().st_size > _LARGE_LOG:
            yield warning(
                "database",
                f"The log of {name} has {log.stat().st_size / 1e6:.0f} MB.",
                "Something reads for very long. Restart the service when it is quiet.",
            )


def _clock(what: Examined) -> Iterator[Finding]:
    with what.records.reading() as session:
        times = (
            session.scalar(select(func.max(Revision.created_at))),
            session.scalar(select(func.max(Turn.created_at))),
            session.scalar(select(func.max(AuditEntry.at))),
        )
    newest = max((at for at in times if isinstance(at, datetime)), default=None)
    if newest is not None and newest > now() + _CLOCK:
        yield problem(
            "clock",
            f"Records are from the future ({newest:%Y-%m-%d %H:%M} UTC): the clock was set back.",
            "Set the clock, and keep it set with NTP.",
        )
    else:
        yield ok("clock", "No record is from the future.")


def _files(what: Examined) -> Iterator[Finding]:
    """Segments and blobs that records name are there."""
    data = what.settings.data
    with what.records.reading() as session:
        segments = session.execute(select(Segment.edition_id, Segment.id)).all()
        kept = Revision.original_deleted_at.is_(None)
        blobs = set(session.scalars(select(Revision.sha256).where(kept)))
        blobs |= {sha for sha in session.scalars(select(Revision.reading)) if sha}
    lost = sum(not (data / "editions" / edition / one).is_file() for edition, one in segments)
    if lost:
        yield problem(
            "segments",
            f"{lost} of {len(segments)} index files are missing.",
            "Restart the service: it rebuilds these indexes from the documents.",
        )
    else:
        yield ok("segments", f"All {len(segments)} index files are there.")
    lost = sum(not (data / "blobs" / sha[:2] / sha).is_file() for sha in blobs)
    if lost:
        yield problem(
            "documents",
            f"{lost} of {len(blobs)} files of documents are missing.",
            "Restore them from a backup, or upload these documents again.",
        )
    else:
        yield ok("documents", f"All {len(blobs)} files of documents are there.")


def _own_models(what: Examined) -> Iterator[Finding]:
    models = what.local_models
    if models.name is None:
        yield problem(
            "embedder",
            f"There is none: searches use keywords only ({models.problem}).",
            "Run: fontanel embedder prepare DIRECTORY, and set FONTANEL_EMBEDDER.",
        )
    else:
        yield ok("embedder", f"{models.name} is loaded.")
    if models.evidence_name is None:
        yield warning(
            "evidence model",
            f"There is none: answers are checked less well ({models.evidence_problem}).",
            "Run: fontanel evidence prepare DIRECTORY, and set FONTANEL_EVIDENCE.",
        )
    else:
        yield ok("evidence model", f"{models.evidence_name} is loaded.")
    with what.records.reading() as session:
        registered = set(session.scalars(select(Embedder.name)))
        used = set(session.scalars(select(Edition.embedder).join(Kb, Kb.edition_id == Edition.id)))
    gone = sorted(name for name in used - registered - {models.name} if name)
    if gone:
        yield problem(
            "embedder",
            f"Active editions use {', '.join(gone)}, which the service does not have.",
            "Restart the service, which rebuilds them, or register the embedder again.",
        )


def _servers(what: Examined) -> Iterator[Finding]:
    with what.records.reading() as session:
        found: tuple[tuple[str, Sequence[TextModel | Embedder | Transcriber]], ...] = (
            ("model", session.scalars(select(TextModel)).all()),
            ("embedder", session.scalars(select(Embedder)).all()),
            ("transcriber", session.scalars(select(Transcriber)).all()),
        )
    for noun, rows in found:
        for row in rows:
            if row.error:
                yield problem(
                    f"{noun}s",
                    f"The {noun} {row.name} does not work: {row.error}",
                    f"Check its server, then run: fontanel {noun} check {row.name}",
                )
        if rows and not any(row.error for row in rows):
            yield ok(f"{noun}s", f"No error at any of {len(rows)}.")


def _cluster(what: Examined) -> Iterator[Finding]:
    settings = what.settings
    if not settings.cluster:
        return
    try:
        needs = Needs(__version__, what.local_models.name)
        workers, unfit = look_at(settings.cluster, settings.cluster_tls, needs)
    except (OSError, ImportError) as error:
        yield problem(
            "cluster",
            f"The cluster at {settings.cluster} cannot be used: {error}",
            "Documents are read on this machine until it is back. Start its scheduler, and install"
            " the service with the extra 'cluster'.",
        )
        return
    if unfit or not workers:
        yield problem(
            "cluster",
            unfit[0] if unfit else f"The cluster at {settings.cluster} has no workers.",
            "Start workers with the service's own version and embedder.",
        )
    else:
        yield ok("cluster", f"Documents are read by {workers} workers.")


def _secrets(what: Examined) -> Iterator[Finding]:
    with what.records.reading() as session:
        sealed = [
            *session.scalars(select(Source.credentials).where(Source.credentials.is_not(None))),
            *session.scalars(select(Channel.credentials).where(Channel.credentials.is_not(None))),
            *session.scalars(select(Receiver.secret)),
        ]
    unreadable = 0
    for value in sealed:
        try:
            what.vault.open(value or b"")
        except SecretUnreadable:
            unreadable += 1
    if unreadable:
        yield problem(
            "secrets",
            f"{unreadable} of {len(sealed)} stored credentials were encrypted with another key.",
            "Put back the secret.key they were stored with, or enter them again.",
        )
    else:
        yield ok("secrets", f"All {len(sealed)} stored credentials can be read.")


def _work(what: Examined) -> Iterator[Finding]:
    long_ago = now() - _LONG
    with what.records.reading() as session:
        waiting = _count(session, Job, Job.state == JobState.WAITING, Job.run_after <= long_ago)
        failed = _count(session, Document, Document.state == DocumentState.FAILED)
        sources = _count(session, Source, Source.failures > 0, Source.paused.is_(False))
        channels = _count(session, Channel, Channel.failing_since.is_not(None))
        undelivered = _count(
            session, Delivery, Delivery.state == JobState.WAITING, Delivery.created_at <= long_ago
        )
    results = (
        (waiting, "ingest", "jobs have waited for over an hour", "No job waits for long."),
        (failed, "ingest", "documents could not be read", "Every document could be read."),
        (sources, "sources", "sources failed when they last ran", "No source fails."),
        (channels, "channels", "channels cannot reach their server", "No channel fails."),
        (undelivered, "receivers", "events wait for over an hour", "No event waits for long."),
    )
    for count, check, text, fine in results:
        if count:
            advice = "Look at the log and the metrics, and ask the teams: they see the reasons."
            yield warning(check, f"{count:,} {text}.", advice)
        else:
            yield ok(check, fine)


def _count(session: Session, table: type[Base], *conditions: ColumnElement[bool]) -> int:
    query = select(func.count()).select_from(table).where(*conditions)
    return session.scalar(query) or 0


def _backups(what: Examined) -> Iterator[Finding]:
    settings, name = what.settings, "backups"
    if not settings.backup:
        yield warning(name, "None are taken.", "Set FONTANEL_BACKUP and FONTANEL_BACKUP_SCHEDULE.")
        return
    with what.records.reading() as session:
        rows = session.scalars(select(Backup).order_by(Backup.created_at.desc()).limit(50)).all()
    done = [row for row in rows if row.state == BackupState.DONE]
    if rows and rows[0].state == BackupState.FAILED:
        yield problem(name, f"The last one failed: {rows[0].error}", "Correct that, and repeat it.")
    if not done:
        yield problem(name, "None was taken yet.", "Run: fontanel backup start --wait")
        return
    age = now() - done[0].created_at
    text = f"The last one was taken {done[0].created_at:%Y-%m-%d %H:%M} UTC."
    if age > timedelta(days=2):
        yield warning(name, text, "Set FONTANEL_BACKUP_SCHEDULE, or look why it is not taken.")
    else:
        yield ok(name, text)
    if not settings.backup_key.get_secret_value():
        yield warning(name, "They are not encrypted.", "Set FONTANEL_BACKUP_KEY, in a new place.")


def _address(what: Examined) -> Iterator[Finding]:
    settings, name = what.settings, "address"
    local = settings.host in ("127.0.0.1", "::1", "localhost")
    if settings.origin.startswith("https://") and not settings.marks_cookie_secure:
        yield warning(
            name,
            "The service is behind HTTPS, but its cookie may be sent without.",
            "Set FONTANEL_SECURE_COOKIE=true.",
        )
    elif not local and settings.origin.startswith("http://"):
        yield warning(
            name,
            "Passwords and documents are sent without encryption.",
            "Put a proxy with HTTPS in front, and set FONTANEL_PUBLIC_URL.",
        )
    else:
        yield ok(name, f"The service is reached at {settings.origin}.")


_CHECKS: tuple[Callable[[Examined], Iterator[Finding]], ...] = (
    _data_directory,
    _disk,
    _database,
    _clock,
    _files,
    _own_models,
    _servers,
    _cluster,
    _secrets,
    _work,
    _backups,
    _address,
)
