"""When a source runs next, and queuing its runs."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.sync.cron import next_time
from fontanel.records.ids import new_id
from fontanel.records.tables import Source, Sync, SyncState, Team, now
from fontanel.sources import KINDS


def next_run(source: Source, time_zone: str, after: datetime) -> datetime | None:
    """When a source is due next, by its schedule; None when only people start it."""
    if source.cron is not None:
        return next_time(source.cron, time_zone, after)
    if source.every_minutes is not None:
        return after + timedelta(minutes=source.every_minutes)
    if watches(source):
        return after + timedelta(minutes=WATCHED_MINUTES)
    return None


def plan_again(session: Session, team: Team) -> None:
    """Schedule a team's cron sources again, since its time zone changed."""
    for source in session.scalars(
        select(Source).where(Source.team_id == team.id, Source.cron.is_not(None))
    ):
        source.next_run_at = next_run(source, team.time_zone, now())


#: A watched folder is listed this often anyway: events can get lost.
WATCHED_MINUTES = 10


def watches(source: Source) -> bool:
    kind = KINDS.get(source.kind)
    return kind is not None and kind.watchable and bool(source.settings.get("watch"))


def start_sync(session: Session, source: Source, cause: str) -> Sync:
    """Queue a run, unless one waits already; one that runs is followed by this one."""
    waiting = select(Sync).where(Sync.source_id == source.id, Sync.state == SyncState.WAITING)
    sync = session.scalar(waiting)
    if sync is None:
        sync = Sync(
            id=new_id("sync"),
            team_id=source.team_id,
            kb_id=source.kb_id,
            source_id=source.id,
            cause=cause,
            state=SyncState.WAITING,
            skip_reasons={},
            seconds={},
        )
        session.add(sync)
        session.flush()
    return sync
