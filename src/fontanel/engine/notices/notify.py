"""Notices to members: shown in the console, and delivered to the team's receivers."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.facts import NoticeKind
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


def _write(session: Session, notice: Notice) -> None:
    notice.id = new_id("note")
    session.add(notice)
    session.flush()
    receivers = select(Receiver).where(
        Receiver.team_id == notice.team_id, Receiver.paused.is_(False)
    )
    for receiver in session.scalars(receivers).all():
        if not receiver.kinds or notice.kind in receiver.kinds:
            session.add(
                Delivery(
                    id=new_id("dlv"),
                    team_id=notice.team_id,
                    receiver_id=receiver.id,
                    notice_id=notice.id,
                    state=JobState.WAITING,
                )
            )
