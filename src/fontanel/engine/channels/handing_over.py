"""Pass a question to a person: the room or address that a channel names for that."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.channels.protocol import ChannelSettings
from fontanel.core.text.fencing import fenced
from fontanel.engine.channels.opening import kind_of, settings_of
from fontanel.records.ids import new_id
from fontanel.records.tables import (
    Channel,
    ChannelMessage,
    MessageKind,
    MessageState,
    Team,
    Turn,
    now,
)

_PASSED_ON = "Your question was passed on to a person."
_NOBODY = "Nobody has been named who could take over here."
_NOTHING = "Ask a question first; it can then be passed on to a person."


def hand_over(
    session: Session,
    channel: Channel,
    settings: ChannelSettings,
    row: ChannelMessage,
    origin: str,
) -> None:
    """Write a note with the last question of a thread and its record, and the reply to who asked.

    Args:
        row: The message that asks for a person.
        origin: The address of the service.
    """
    row.state, row.answered_at = MessageState.ANSWERED, now()
    last = session.scalar(
        select(ChannelMessage)
        .where(
            ChannelMessage.channel_id == channel.id,
            ChannelMessage.thread == row.thread,
            ChannelMessage.turn_id.is_not(None),
            ChannelMessage.kind.in_((MessageKind.QUESTION, MessageKind.CORRECTION)),
        )
        .order_by(ChannelMessage.received_at.desc())
        .limit(1)
    )
    turn = None if last is None or last.turn_id is None else session.get(Turn, last.turn_id)
    if not settings.hand_over_to:
        row.reply = _NOBODY
    elif turn is None:
        row.reply = _NOTHING
    else:
        row.reply = _PASSED_ON
        row.turn_id, row.conversation_id = turn.id, turn.conversation_id
        note = note_row(channel, settings.hand_over_to, _note(session, row, turn, origin))
        note.turn_id = turn.id
        session.add(note)


def note_row(channel: Channel, room: str, text: str) -> ChannelMessage:
    """Return a message of our own to a room or address, ready to be sent."""
    note_id = new_id("msg")
    address = kind_of(channel.kind).address(settings_of(channel), room)
    return ChannelMessage(
        id=note_id,
        team_id=channel.team_id,
        channel_id=channel.id,
        external_id=note_id,
        kind=MessageKind.NOTE,
        state=MessageState.ANSWERED,
        thread=f"note/{note_id}",
        room=room,
        sender="",
        text="",
        address=dict(address),
        sources=[],
        reply=text,
        received_at=now(),
        answered_at=now(),
    )


def _note(session: Session, row: ChannelMessage, turn: Turn, origin: str) -> str:
    team = session.get_one(Team, turn.team_id)
    who = row.sender_name or row.sender
    where = f" in {row.room}" if row.room else ""
    asked = fenced(turn.question) if "\n" in turn.question else f"> {turn.question}"
    return "\n\n".join(
        (
            f"{who}{where} asks for a person.",
            asked,
            f"The answer was ({turn.outcome}):",
            turn.text or "(no text)",
            f"Record of the answer: {origin}/t/{team.slug}/answers/{turn.id}",
        )
    )
