"""Runs of sources.

Which is next, and what follows when one ends, fails or is held.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path

import structlog
from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session, aliased

from fontanel import tracing
from fontanel.engine.notices.notify import notify
from fontanel.engine.sync.limits import source_limits
from fontanel.engine.sync.opening import credentials_of, open_kind
from fontanel.engine.sync.planning import next_run
from fontanel.engine.sync.run import RunHeld, SyncRun
from fontanel.engine.sync.run_record import RunEnded, RunInterrupted
from fontanel.errors import QuotaReached, Refused, SecretUnreadable
from fontanel.records.blobs import BlobStore
from fontanel.records.tables import Source, Sync, SyncState, Team, now
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault
from fontanel.settings import Settings
from fontanel.sources import KINDS, SourceUnavailable
from fontanel.sources.patterns import PatternRefused

log = structlog.get_logger()

#: Runs of a source to keep; those with changes are kept longer.
_KEPT_RUNS, _KEPT_DAYS = 50, 90
_LONGEST_RETRY = timedelta(hours=1)


@dataclass(slots=True)
class _RunOutcome:
    """How a run ended."""

    state: SyncState = SyncState.DONE
    held_reason: str | None = None
    error: str | None = None
    again: bool = True
    """Whether trying again can help without anybody doing something."""
    run: SyncRun | None = None

    def fail(self, error: str, *, again: bool) -> None:
        """Record a failure."""
        self.state, self.error, self.again = SyncState.FAILED, error, again


class SyncRunner:
    """Runs sources: `run_next` does one waiting run; runs of a source never overlap.

    Several threads call it.
    """

    def __init__(
        self,
        *,
        records: Records,
        blobs: BlobStore,
        vault: Vault,
        settings: Settings,
        stopping: Callable[[], bool],
    ) -> None:
        self._records = records
        self._blobs = blobs
        self._vault = vault
        self._settings = settings
        self._stopping = stopping
        #: Sources that were deleted while they ran.
        self._cancelled: set[str] = set()

    def recover(self) -> int:
        """Queue interrupted runs again, at start; they resume where they were."""
        with self._records.writing() as session:
            running = session.scalars(select(Sync).where(Sync.state == SyncState.RUNNING)).all()
            for sync in running:
                # One that waits behind it is this one now.
                session.execute(
                    delete(Sync).where(
                        Sync.source_id == sync.source_id, Sync.state == SyncState.WAITING
                    )
                )
                sync.state = SyncState.WAITING
            return len(running)

    def run_next(self) -> bool:
        """Do a waiting run, if there is one; return whether there was."""
        claimed = self._claim()
        if claimed is None:
            return False
        sync, source = claimed
        began = time.monotonic()
        ids = {"sync": sync.id, "source": source.id, "kb": source.kb_id, "team": source.team_id}
        with tracing.span("sync", kind=source.kind, **ids) as span:
            outcome = self._run(sync, source)
            if outcome is not None:
                span.failed = outcome.state == SyncState.FAILED
                span.set(state=outcome.state.value)
        if outcome is None:
            return False  # it goes on at the next start
        self._finish(sync, outcome)
        seconds = round(time.monotonic() - began, 3)
        log.info("sync ended", sync=sync.id, source=source.id, seconds=seconds)
        return True

    def _run(self, sync: Sync, source: Source) -> _RunOutcome | None:
        """Do a run and return its outcome.

        None if the service stops or the source is gone.
        """
        outcome = _RunOutcome()
        try:
            self._open_and_run(sync, source, outcome)
        except RunInterrupted:
            return None
        except RunHeld as held:
            outcome.state, outcome.held_reason = SyncState.HELD, str(held)
        except RunEnded:
            outcome.state = SyncState.ENDED
        except SourceUnavailable as error:
            if self._ends(source.id):
                return None
            outcome.fail(str(error), again=error.again)
        except (QuotaReached, Refused, SecretUnreadable, PatternRefused) as error:
            outcome.fail(str(error), again=False)
        except Exception as error:
            if self._ends(source.id):
                return None
            log.exception("sync failed", sync=sync.id, source=source.id)
            reason = f"It failed inside the service: {error}. The log has the details."
            outcome.fail(reason, again=True)
        return outcome

    def _open_and_run(self, sync: Sync, source: Source, outcome: _RunOutcome) -> None:
        kind = KINDS.get(source.kind)
        if kind is None:
            raise SourceUnavailable(
                f"This version has no kind of source {source.kind!r}.", again=False
            )
        with self._records.reading() as session:
            team = session.get_one(Team, source.team_id)
        limits = source_limits(
            self._settings, team, self._scratch(source), partial(self._ends, source.id)
        )
        credentials = credentials_of(self._vault, source)
        with open_kind(kind, source.settings, credentials, limits) as opened:
            outcome.run = SyncRun(
                records=self._records,
                blobs=self._blobs,
                sync=sync,
                source=source,
                opened=opened,
                limits=limits,
                reports_unchanged=kind.reports_unchanged,
            )
            outcome.run.run()

    def cancel(self, source_id: str) -> None:
        """End the run of a source that is gone, also while it waits for a server."""
        with self._records.reading() as session:
            if session.get(Source, source_id) is None:
                self._cancelled.add(source_id)

    def _ends(self, source_id: str) -> bool:
        return source_id in self._cancelled or self._stopping()

    def _claim(self) -> tuple[Sync, Source] | None:
        with self._records.reading() as session:
            if (
                session.scalar(select(Sync.id).where(Sync.state == SyncState.WAITING).limit(1))
                is None
            ):
                return None
        with self._records.writing() as session:
            other = aliased(Sync)
            busy = select(other.id).where(
                other.source_id == Sync.source_id, other.state == SyncState.RUNNING
            )
            ready = select(Sync).where(Sync.state == SyncState.WAITING, ~busy.exists())
            # A team with slow servers must not occupy the threads of the others.
            running = select(func.count()).where(
                other.team_id == Sync.team_id, other.state == SyncState.RUNNING
            )
            of_team = running.scalar_subquery()
            share = max(1, self._settings.sync_threads // 3)
            sync = session.scalar(
                ready.where(of_team < share).order_by(of_team, Sync.created_at).limit(1)
            )
            if sync is None:
                return None
            source = session.get_one(Source, sync.source_id)
            sync.state, sync.started_at, sync.stage = (
                SyncState.RUNNING,
                sync.started_at or now(),
                "listing",
            )
        return sync, source

    def _scratch(self, source: Source) -> Path:
        return self._settings.data / "sources" / source.id

    def _finish(self, sync: Sync, outcome: _RunOutcome) -> None:
        """Record how a run ended and when the source is next due, and notify members."""
        with self._records.writing() as session:
            row, source = session.get(Sync, sync.id), session.get(Source, sync.source_id)
            if row is None or source is None:
                return
            if row.state == SyncState.RUNNING:
                row.state = outcome.state
            if outcome.run is not None:
                outcome.run.record_end(row)
            row.held_reason, row.error = outcome.held_reason, outcome.error
            row.finished_at, row.stage = now(), ""
            was_held = self._overtake(session, row)
            if row.state == SyncState.DONE:
                self._came_through(session, source, row)
            elif row.state == SyncState.FAILED:
                self._went_wrong(session, source, row, again=outcome.again)
            elif row.state == SyncState.HELD and not was_held:
                message = (
                    f"{source.name}: a run is held. {outcome.held_reason} Nothing was removed."
                )
                notify(session, source, "sync.held", message, row)
            if row.state in (SyncState.HELD, SyncState.ENDED):
                if row.state == SyncState.HELD:
                    source.last_listed_at = row.started_at
                source.next_run_at = self._next(session, source)
            self._delete_old(session, source)

    def _overtake(self, session: Session, row: Sync) -> bool:
        """End held runs that a later run replaces; return whether there were any."""
        if row.state not in (SyncState.DONE, SyncState.HELD):
            return False
        stored = update(Sync).where(
            Sync.source_id == row.source_id, Sync.state == SyncState.HELD, Sync.id != row.id
        )
        result = session.execute(
            stored.values(state=SyncState.ENDED, error="A later run looked again.")
        )
        return bool(result.rowcount)  # type: ignore[attr-defined]

    def _came_through(self, session: Session, source: Source, row: Sync) -> None:
        if source.failing_since is not None:
            notify(session, source, "sync.recovered", f"{source.name}: it can be read again.", row)
        elif row.added + row.changed + row.moved + row.removed:
            parts = [
                f"{count} {word}"
                for word in ("added", "changed", "moved", "removed")
                if (count := getattr(row, word))
            ]
            notify(session, source, "sync.finished", f"{source.name}: {', '.join(parts)}.", row)
        source.last_listed_at = row.started_at
        source.failing_since, source.failures, source.error = None, 0, None
        source.next_run_at = self._next(session, source)

    def _went_wrong(self, session: Session, source: Source, row: Sync, *, again: bool) -> None:
        if source.failing_since is None:
            source.failing_since = row.started_at
            notify(
                session,
                source,
                "sync.failed",
                f"{source.name}: {row.error} Its documents stay as they are.",
                row,
            )
        source.failures += 1
        source.error = row.error
        due = self._next(session, source)
        # Temporary failures are retried before the schedule, with growing pauses.
        retry = now() + min(timedelta(seconds=15 * 2 ** min(source.failures, 10)), _LONGEST_RETRY)
        scheduled = due is not None
        source.next_run_at = (
            min(due or retry, retry) if again and (scheduled or source.failures < 5) else due
        )

    def _next(self, session: Session, source: Source) -> datetime | None:
        team = session.get_one(Team, source.team_id)
        return next_run(source, team.time_zone, now())

    def _delete_old(self, session: Session, source: Source) -> None:
        """Drop runs of long ago, and sooner those in which nothing happened."""
        ended = (SyncState.DONE, SyncState.FAILED, SyncState.ENDED)
        recent = (
            select(Sync.id)
            .where(Sync.source_id == source.id)
            .order_by(Sync.created_at.desc())
            .limit(_KEPT_RUNS)
        )
        eventful = Sync.added + Sync.changed + Sync.moved + Sync.removed > 0
        old = Sync.created_at < now() - timedelta(days=_KEPT_DAYS)
        session.execute(
            delete(Sync).where(
                Sync.source_id == source.id,
                Sync.state.in_(ended),
                Sync.id.not_in(recent),
                old | ~eventful,
            )
        )
