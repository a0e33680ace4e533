"""Freshness: how long changes at a source take to reach answers."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from statistics import median

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.notices.notify import notify
from fontanel.engine.sync.planning import watches
from fontanel.records.tables import Document, DocumentState, Revision, Source, Sync, SyncState, now
from fontanel.records.unit_of_work import Records
from fontanel.sources import KINDS

_WINDOW = timedelta(days=7)
_MAX_MEASURED = 2000
#: A source that was just checked is not late while a run takes its time.
_GRACE = timedelta(seconds=30)
_ON_THE_WAY = (DocumentState.WAITING, DocumentState.READING, DocumentState.SPLITTING)


@dataclass(frozen=True, slots=True)
class Freshness:
    """The freshness of a source.

    `state` is fresh, late, unscheduled (only people start its runs), paused or new (never checked).
    `as_of`: changes up to this time have been seen. Lags are in seconds, from a change at the
    source until its words were searchable.
    """

    state: str
    as_of: datetime | None
    late_since: datetime | None
    pending: int
    measured: int
    within: float | None
    median_seconds: float | None
    worst_seconds: float | None


def freshness_of(session: Session, source: Source) -> Freshness:
    target = timedelta(minutes=source.target_minutes)
    lags = _lags(session, source)
    pending, oldest = _pending(session, source)
    as_of = _as_of(session, source)
    state = _state(session, source, target, as_of, oldest)
    within = sum(lag <= target.total_seconds() for lag in lags) / len(lags) if lags else None
    late_since = None
    if state == "late":
        late_since = min(
            moment + target
            for moment in (as_of, oldest, source.failing_since)
            if moment is not None
        )
    return Freshness(
        state,
        as_of,
        late_since,
        pending,
        len(lags),
        within,
        median(lags) if lags else None,
        max(lags, default=None),
    )


def _lags(session: Session, source: Source) -> list[float]:
    rows = session.execute(
        select(Revision.source_changed_at, Revision.answerable_at)
        .join(Document, Document.key == Revision.document_key)
        .where(
            Document.source_id == source.id,
            Revision.source_changed_at.is_not(None),
            Revision.answerable_at.is_not(None),
            Revision.created_at > now() - _WINDOW,
        )
        .order_by(Revision.created_at.desc())
        .limit(_MAX_MEASURED)
    )
    return [
        max(0.0, (done - changed).total_seconds()) for changed, done in rows if changed and done
    ]


def _pending(session: Session, source: Source) -> tuple[int, datetime | None]:
    """Return how many changes are not answerable yet, and the time of the oldest."""
    row = session.execute(
        select(func.count(), func.min(Revision.created_at))
        .join(Document, Document.latest_revision_id == Revision.id)
        .where(Document.source_id == source.id, Document.state.in_(_ON_THE_WAY))
    ).one()
    return row[0], row[1]


def _as_of(session: Session, source: Source) -> datetime | None:
    """Return the time up to which changes have been seen: now for a watched folder."""
    kind = KINDS.get(source.kind)
    if kind is not None and kind.pushed:
        return now()
    if (
        source.last_listed_at is not None
        and watches(source)
        and source.failing_since is None
        and not source.paused
    ):
        open_runs = select(func.min(Sync.created_at)).where(
            Sync.source_id == source.id, Sync.state.in_((SyncState.WAITING, SyncState.RUNNING))
        )
        return session.scalar(open_runs) or now()
    return source.last_listed_at


def _state(
    session: Session,
    source: Source,
    target: timedelta,
    as_of: datetime | None,
    oldest: datetime | None,
) -> str:
    kind = KINDS.get(source.kind)
    if source.paused:
        return "paused"
    if oldest is not None and now() - oldest > target:
        return "late"
    if kind is not None and kind.pushed:
        return "fresh"
    if as_of is None:
        behind = source.failing_since is not None and now() - source.failing_since > target
        return "late" if behind else "new"
    if source.next_run_at is None and source.failing_since is None:
        return "unscheduled"
    stored = session.scalar(
        select(Sync.id).where(Sync.source_id == source.id, Sync.state == SyncState.HELD).limit(1)
    )
    return "late" if stored or now() - as_of > target + _GRACE else "fresh"


def watch_freshness(records: Records) -> None:
    """Tell members when a source becomes late, and when it no longer is."""
    with records.reading() as session:
        moved = [
            source.id
            for source in session.scalars(select(Source))
            if (freshness_of(session, source).state == "late") != (source.late_since is not None)
        ]
    if not moved:
        return
    with records.writing() as session:
        for source in session.scalars(select(Source).where(Source.id.in_(moved))).all():
            result = freshness_of(session, source)
            if result.state == "late" and source.late_since is None:
                source.late_since = result.late_since or now()
                notify(
                    session,
                    source,
                    "freshness.missed",
                    f"{source.name}: changes are no longer answerable within"
                    f" {source.target_minutes} minutes.",
                )
            elif result.state != "late" and source.late_since is not None:
                source.late_since = None
                notify(
                    session,
                    source,
                    "freshness.met",
                    f"{source.name}: changes are answerable in time again.",
                )
