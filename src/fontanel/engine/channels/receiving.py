"""Store messages as they come, and decide what each of them is.

A message is stored once by its identity at the other side, so that one that is delivered again
changes nothing.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import fields, replace
from datetime import timedelta
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from fontanel.channels.protocol import MAX_QUESTION, ChannelSettings, Incoming, storable
from fontanel.channels.words import asks_for_person, follows, opinion
from fontanel.engine.answering.links import published_settings
from fontanel.engine.channels.handing_over import hand_over
from fontanel.engine.channels.opening import settings_of
from fontanel.engine.curation.followed import Notify, follow_answer
from fontanel.engine.gaps.feedback import store_feedback
from fontanel.errors import Refused
from fontanel.records.ids import new_id
from fontanel.records.tables import (
    Channel,
    ChannelMessage,
    Desk,
    FollowedAnswer,
    Member,
    MessageKind,
    MessageState,
    Person,
    Turn,
    now,
)

_TOO_LONG = (
    f"Your message is longer than {MAX_QUESTION:,} characters. Please ask a shorter question."
)

_FOLLOWED = "You will be notified here when this answer changes. Reply “stop” to end it."
_STOPPED = "You no longer follow answers in this thread."
_NOT_FOLLOWED = "You follow no answer in this thread."
_NOTHING = "Ask a question first; its answer can then be followed."


def asker_of(channel_id: str, sender: str) -> str:
    """Return who asks, as turns record it: no address, and another one in each channel."""
    name = hashlib.sha256(f"{channel_id}:{sender}".encode()).hexdigest()[:24]
    return f"channel:{channel_id}:{name}"


def take_messages(
    session: Session, channel: Channel, messages: Sequence[Incoming], origin: str
) -> list[ChannelMessage]:
    """Store the messages that are new; return their rows.

    Args:
        origin: The address of the service, for links to records.
    """
    settings = settings_of(channel)
    rows = []
    for sent in messages:
        message = replace(
            sent, **{one.name: storable(getattr(sent, one.name)) for one in fields(sent)}
        )
        known = select(ChannelMessage.id).where(
            ChannelMessage.channel_id == channel.id, ChannelMessage.external_id == message.id
        )
        if session.scalar(known) is None and _is_for_us(session, channel, message):
            rows.append(_store(session, channel, settings, message, origin))
    return rows


def _store(
    session: Session, channel: Channel, settings: ChannelSettings, message: Incoming, origin: str
) -> ChannelMessage:
    row = ChannelMessage(
        id=new_id("msg"),
        team_id=channel.team_id,
        channel_id=channel.id,
        external_id=message.id,
        kind=MessageKind.QUESTION,
        state=MessageState.WAITING,
        reason="",
        thread=_thread(session, channel, message),
        room=message.room,
        sender=message.sender,
        sender_name=message.sender_name,
        text=message.text.strip()[: 2 * MAX_QUESTION],
        about=message.about or message.corrects,
        address=dict(message.address),
        sources=[],
        replaces="",
        received_at=now(),
    )
    reason = message.ignored or _not_allowed(session, channel, settings, message)
    if reason:
        row.state, row.reason = MessageState.IGNORED, reason
    elif message.helpful is not None:
        _judge(session, channel, row, helpful=message.helpful)
    elif not row.text:
        row.state, row.reason = MessageState.IGNORED, "It has no text."
    elif len(message.text.strip()) > MAX_QUESTION:
        _reply(row, _TOO_LONG)
    elif asks_for_person(row.text):
        row.kind = MessageKind.PERSON
        hand_over(session, channel, settings, row, origin)
    elif (helpful := opinion(row.text)) is not None:
        _judge(session, channel, row, helpful=helpful)
    elif (follow := follows(row.text)) is not None:
        row.kind = MessageKind.FOLLOW
        _reply(row, _follow(session, channel, row, follow=follow))
    elif message.corrects:
        _correct(session, channel, row)
    session.add(row)
    session.flush()
    return row


def _is_for_us(session: Session, channel: Channel, message: Incoming) -> bool:
    """Return whether a message is meant for the desk, and not for others in its room."""
    if not message.if_known:
        return True
    if message.about:
        return _answer_of(session, channel, message.about) is not None
    in_thread = select(ChannelMessage.id).where(
        ChannelMessage.channel_id == channel.id,
        ChannelMessage.thread == _thread(session, channel, message),
    )
    return session.scalar(in_thread.limit(1)) is not None


def _thread(session: Session, channel: Channel, message: Incoming) -> str:
    """Return the thread of the message that a message replies to, or else its own."""
    if not message.replies_to:
        return message.thread
    ref = message.replies_to
    known = session.scalar(
        select(ChannelMessage.thread)
        .where(
            ChannelMessage.channel_id == channel.id,
            # The reply may arrive before it is recorded that the message was sent under our id.
            (ChannelMessage.sent_id == ref)
            | (ChannelMessage.external_id == ref)
            | (ChannelMessage.id == ref),
        )
        .limit(1)
    )
    return message.thread if known is None else known


def _reply(row: ChannelMessage, text: str) -> None:
    row.state, row.reply, row.answered_at = MessageState.ANSWERED, text, now()


def _not_allowed(
    session: Session, channel: Channel, settings: ChannelSettings, message: Incoming
) -> str:
    """Return why a sender's message is not answered; an empty string if it is."""
    entries = settings.allowed
    if not may_ask(entries, message.sender, message.room) and not _is_member(
        session, channel.team_id, message.sender
    ):
        desk = session.get_one(Desk, channel.desk_id)
        published = published_settings(session, desk) or {}
        if entries:
            return f"{message.sender} is not among those who may ask."
        if published.get("audience") != "link":
            return "The desk is for members only, and the channel names nobody else."
    recent = select(func.count()).where(
        ChannelMessage.channel_id == channel.id,
        ChannelMessage.sender == message.sender,
        ChannelMessage.received_at > now() - timedelta(minutes=1),
        ChannelMessage.state != MessageState.IGNORED,
    )
    if (session.scalar(recent) or 0) >= settings.per_minute:
        return f"It is more than {settings.per_minute} messages a minute from {message.sender}."
    return ""


def may_ask(entries: Sequence[str], sender: str, room: str) -> bool:
    """Return whether a sender or room is among the entries: whole, or ending like `*@domain`."""
    names = [name.lower() for name in (sender, room) if name]
    for entry in (one.lower() for one in entries):
        if any(
            name.endswith(entry[1:]) if entry.startswith("*") else name == entry for name in names
        ):
            return True
    return False


def _is_member(session: Session, team_id: str, sender: str) -> bool:
    query = (
        select(Member.person_id)
        .join(Person, Person.id == Member.person_id)
        .where(Member.team_id == team_id, Person.email == sender.lower())
    )
    return session.scalar(query) is not None


def _judge(session: Session, channel: Channel, row: ChannelMessage, *, helpful: bool) -> None:
    """Store an opinion of the reply that a message is about, or of the last one in its thread."""
    row.kind, row.state = MessageKind.FEEDBACK, MessageState.NOTED
    if row.about:
        last = _answer_of(session, channel, row.about)
    else:
        last = _last_answered(session, channel, row.thread)
    turn = None if last is None or last.turn_id is None else session.get(Turn, last.turn_id)
    if turn is None:
        row.state, row.reason = MessageState.IGNORED, "There is no answer that it could be about."
        return
    row.turn_id, row.conversation_id = turn.id, turn.conversation_id
    store_feedback(session, turn, asker_of(channel.id, row.sender), helpful=helpful)


def _answer_of(session: Session, channel: Channel, sent_id: str) -> ChannelMessage | None:
    """Return the message whose reply has an identity at the other side."""
    query = select(ChannelMessage).where(
        ChannelMessage.channel_id == channel.id,
        (ChannelMessage.sent_id == sent_id) | (ChannelMessage.id == sent_id),
    )
    return session.scalar(query.order_by(ChannelMessage.received_at.desc()).limit(1))


def _last_answered(session: Session, channel: Channel, thread: str) -> ChannelMessage | None:
    """Return the last message of a thread that has an answer."""
    query = select(ChannelMessage).where(
        ChannelMessage.channel_id == channel.id,
        ChannelMessage.thread == thread,
        ChannelMessage.turn_id.is_not(None),
    )
    return session.scalar(query.order_by(ChannelMessage.received_at.desc()).limit(1))


def _follow(session: Session, channel: Channel, row: ChannelMessage, *, follow: bool) -> str:
    """Follow the last answer of a thread, or stop following all of it; return what to reply."""
    asker = asker_of(channel.id, row.sender)
    if not follow:
        own = delete(FollowedAnswer).where(
            FollowedAnswer.channel_id == channel.id,
            FollowedAnswer.thread == row.thread,
            FollowedAnswer.asker == asker,
        )
        stopped: Any = session.execute(own)
        return _STOPPED if stopped.rowcount else _NOT_FOLLOWED
    last = _last_answered(session, channel, row.thread)
    turn = None if last is None or last.turn_id is None else session.get(Turn, last.turn_id)
    if turn is None:
        return _NOTHING
    where = Notify(channel_id=channel.id, thread=row.thread, address=row.address)
    try:
        follow_answer(session, turn, asker, where)
    except Refused as refused:
        return str(refused)
    return _FOLLOWED


def _correct(session: Session, channel: Channel, row: ChannelMessage) -> None:
    """Replace an earlier question of the same sender; its reply will be edited."""
    first = session.scalar(
        select(ChannelMessage).where(
            ChannelMessage.channel_id == channel.id,
            ChannelMessage.external_id == row.about,
            ChannelMessage.sender == row.sender,
        )
    )
    if first is None:
        return
    row.kind = MessageKind.CORRECTION
    if first.state == MessageState.WAITING:
        first.state, first.reason = MessageState.IGNORED, "It was corrected before it was answered."
