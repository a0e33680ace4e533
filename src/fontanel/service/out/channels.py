"""Channels and their messages as the API returns them."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.channels.opening import kind_of
from fontanel.records.tables import Channel, ChannelMessage, Desk, MessageState
from fontanel.schemas import ChannelMessageOut, ChannelOut, ChannelSource

_OPEN = (MessageState.WAITING, MessageState.ANSWERED)


def channel_out(session: Session, channel: Channel, origin: str) -> ChannelOut:
    """Return a channel with the counts of its messages.

    Args:
        origin: The address of the service.
    """
    mine = ChannelMessage.channel_id == channel.id
    rows = session.execute(
        select(ChannelMessage.state, func.count())
        .where(mine, ChannelMessage.state.in_((*_OPEN, MessageState.FAILED)))
        .group_by(ChannelMessage.state)
    ).all()
    counts = {row[0]: int(row[1]) for row in rows}
    posted = kind_of(channel.kind).accept is not None
    return ChannelOut(
        id=channel.id,
        desk=session.get_one(Desk, channel.desk_id).slug,
        name=channel.name,
        kind=channel.kind,
        settings=channel.settings,
        credential_names=channel.credential_names,
        paused=channel.paused,
        address=f"{origin}/api/v1/channels/{channel.id}/messages" if posted else None,
        connected_at=channel.connected_at,
        failing=channel.error,
        failing_since=channel.failing_since,
        waiting=sum(counts.get(state, 0) for state in _OPEN),
        failed=counts.get(MessageState.FAILED, 0),
        last_message_at=session.scalar(select(func.max(ChannelMessage.received_at)).where(mine)),
        created_at=channel.created_at,
        changed_at=channel.changed_at,
        version=channel.version,
    )


def message_out(row: ChannelMessage) -> ChannelMessageOut:
    return ChannelMessageOut(
        id=row.id,
        kind=row.kind.value,
        state=row.state.value,
        reason=row.reason,
        sender=row.sender,
        sender_name=row.sender_name,
        room=row.room,
        thread=row.thread,
        text=row.text,
        reply=row.reply,
        sources=[ChannelSource(**source) for source in row.sources],
        turn_id=row.turn_id,
        conversation_id=row.conversation_id,
        attempts=row.attempts,
        received_at=row.received_at,
        answered_at=row.answered_at,
        sent_at=row.sent_at,
    )
