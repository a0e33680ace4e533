"""Notices to members: shown in the console, and delivered to the team's receivers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.facts import EventKind, NoticeKind
from fontanel.records.ids import new_id
from fontanel.records.tables import Delivery, JobState, Notice, Receiver, Source, Sync


def notify(
    session: Session, source: Source, kind: NoticeKind, message: str, sync: Sync | None = None
) -> None:
    """Write a notice and queue its deliveries, within the caller's transaction."""
    data: dict[str, Any] = {"kb": source.kb_id, "source": source.id, "source_name": source.name}
    if sync is not None:
        counts = ("seen", "unchanged", "added", "changed", "moved", "removed", "skipped", "failed")
        data |= {"sync": sync.id, **{name: getattr(sync, name) for name in counts}}
    _write(
        session,
        Notice(
            team_id=source.team_id,
            kb_id=source.kb_id,
            source_id=source.id,
            kind=kind,
            message=message,
            data=data,
        ),
    )


def notify_team(
    session: Session, team_id: str, kind: NoticeKind, message: str, data: dict[str, Any]
) -> None:
    """Write a notice that concerns the whole team."""
    _write(session, Notice(team_id=team_id, kind=kind, message=message, data=data))


def emit(
    session: Session, team_id: str, kind: EventKind, message: str, data: dict[str, Any]
) -> None:
    """Queue an event for the receivers that name its kind, within the caller's transaction."""
    receivers = [one for one in _receivers(session, team_id) if kind in one.kinds]
    if receivers:
        notice = Notice(team_id=team_id, kind=kind, message=message, data=data, event=True)
        _deliver(session, notice, receivers)


def _write(session: Session, notice: Notice) -> None:
    receivers = _receivers(session, notice.team_id)
    wanting = [one for one in receivers if not one.kinds or notice.kind in one.kinds]
    _deliver(session, notice, wanting)


def _receivers(session: Session, team_id: str) -> Sequence[Receiver]:
    active = select(Receiver).where(Receiver.team_id == team_id, Receiver.paused.is_(False))
    return session.scalars(active).all()


def _deliver(session: Session, notice: Notice, receivers: Sequence[Receiver]) -> None:
    notice.id = new_id("note")
    session.add(notice)
    session.flush()
    for receiver in receivers:
        session.add(
            Delivery(
                id=new_id("dlv"),
                team_id=notice.team_id,
                receiver_id=receiver.id,
                notice_id=notice.id,
                state=JobState.WAITING,
            )
        )
