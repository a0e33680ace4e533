"""Starting runs of sources: by the clock, and on events of watched folders."""

from __future__ import annotations

import threading
from collections.abc import Callable
from pathlib import Path

import structlog
from sqlalchemy import select
from watchfiles import watch

from fontanel.engine.sync.limits import source_limits
from fontanel.engine.sync.opening import open_kind
from fontanel.engine.sync.planning import next_run, start_sync, watches
from fontanel.errors import Refused
from fontanel.records.tables import Source, Team, now
from fontanel.records.unit_of_work import Records
from fontanel.settings import Settings
from fontanel.sources import KINDS

log = structlog.get_logger()

#: Events within this time make one run.
_DEBOUNCE_MS = 250
#: Folders that cannot be watched now are retried after this many checks of the clock.
_PATIENCE = 30


class Schedule:
    """Starts due runs, and watches folders with a thread each."""

    def __init__(self, records: Records, settings: Settings) -> None:
        self._records = records
        self._settings = settings
        self._watchers: dict[str, _Watcher] = {}

    def start_due(self) -> None:
        """Queue due runs, and watch the folders that should be watched."""
        with self._records.reading() as session:
            due = select(Source.id).where(Source.next_run_at <= now(), Source.paused.is_(False))
            ready = session.scalar(due.limit(1)) is not None
            watched = [
                s
                for s in session.scalars(select(Source).where(Source.paused.is_(False)))
                if watches(s)
            ]
        if ready:
            with self._records.writing() as session:
                for source in session.scalars(select(Source).where(Source.id.in_(due))).all():
                    start_sync(session, source, "schedule")
                    team = session.get_one(Team, source.team_id)
                    source.next_run_at = next_run(source, team.time_zone, now())
        self._watch(watched)

    def stop(self) -> None:
        for watcher in self._watchers.values():
            watcher.stop()

    def _watch(self, sources: list[Source]) -> None:
        requested = {source.id: source for source in sources}
        for source_id, watcher in list(self._watchers.items()):
            source = requested.get(source_id)
            if source is None or source.settings != watcher.settings or watcher.spent():
                watcher.stop()
                del self._watchers[source_id]
        for source_id, source in requested.items():
            if source_id not in self._watchers:
                self._watchers[source_id] = _Watcher(source, self._folder(source), self._on_event)

    def _folder(self, source: Source) -> Path | None:
        with self._records.reading() as session:
            team = session.get_one(Team, source.team_id)
        try:
            with open_kind(
                KINDS[source.kind], source.settings, {}, source_limits(self._settings, team)
            ) as opened:
                return opened.watched()
        except (Refused, OSError, ValueError, RuntimeError) as error:
            # Whatever was stored: one source must not keep the others from being watched.
            log.warning("folder cannot be watched", source=source.id, error=str(error))
            return None

    def _on_event(self, source_id: str) -> None:
        with self._records.writing() as session:
            source = session.get(Source, source_id)
            if source is not None and not source.paused:
                start_sync(session, source, "event")


class _Watcher:
    """Watches a folder in a thread, until it is stopped or the folder disappears."""

    def __init__(
        self, source: Source, folder: Path | None, on_event: Callable[[str], None]
    ) -> None:
        self.settings = source.settings
        self._source_id = source.id
        self._looked_at = source.last_listed_at
        self._folder = folder
        self._on_event = on_event
        self._stop = threading.Event()
        self._looks = 0
        self._thread = threading.Thread(target=self._run, name=f"watch-{source.id}", daemon=True)
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()

    def spent(self) -> bool:
        """Whether it has ended and it is time to try again."""
        if self._thread.is_alive():
            return False
        self._looks += 1
        return self._looks > _PATIENCE

    def _run(self) -> None:
        if self._folder is None or not self._folder.is_dir():
            return
        try:
            if self._looked_at:
                # What changed while nobody watched is found by a run at the start.
                self._on_event(self._source_id)
            for changes in watch(
                self._folder,
                debounce=_DEBOUNCE_MS,
                step=50,
                stop_event=self._stop,
                yield_on_timeout=True,
                rust_timeout=5_000,
                watch_filter=None,
                ignore_permission_denied=True,
            ):
                if self._stop.is_set():
                    return
                removed = not self._folder.is_dir()
                if changes or removed:
                    self._on_event(self._source_id)
                if removed:
                    return
        except (OSError, RuntimeError) as error:
            log.warning("folder cannot be watched", source=self._source_id, error=str(error))
