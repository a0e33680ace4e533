"""Receivers of notices as the API returns them."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.records.tables import Delivery, JobState, Receiver
from fontanel.schemas import ReceiverOut


def receiver_out(session: Session, receiver: Receiver) -> ReceiverOut:
    mine = select(Delivery).where(Delivery.receiver_id == receiver.id)
    last = session.scalar(
        mine.where(Delivery.attempts > 0).order_by(Delivery.created_at.desc()).limit(1)
    )
    waiting = session.scalar(
        select(func.count()).where(
            Delivery.receiver_id == receiver.id, Delivery.state == JobState.WAITING
        )
    )
    sent = session.scalar(
        select(func.max(Delivery.sent_at)).where(Delivery.receiver_id == receiver.id)
    )
    return ReceiverOut(
        id=receiver.id,
        url=receiver.url,
        kinds=receiver.kinds,
        paused=receiver.paused,
        waiting=waiting or 0,
        last_sent_at=sent,
        failing=last.error if last else None,
        created_at=receiver.created_at,
    )
