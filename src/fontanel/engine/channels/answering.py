"""Answer the messages of channels, in turn for each team, in order within a thread.

A message is asked under its own id, so that an answer that was stored before a kill is taken from
its turn and not made again.
"""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Sequence
from dataclasses import asdict
from datetime import timedelta

import structlog
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.channels.protocol import ChannelSettings, ChannelUnavailable, Quoted
from fontanel.channels.writing import reply_text
from fontanel.engine.answering.asking import Asked, Asking, Recorded
from fontanel.engine.answering.links import published_settings
from fontanel.engine.answering.second import version_for
from fontanel.engine.answering.targets import Target, desk_target, version_of
from fontanel.engine.channels.connections import Connections
from fontanel.engine.channels.opening import settings_of
from fontanel.engine.channels.quoting import marks_of
from fontanel.engine.channels.receiving import asker_of
from fontanel.engine.runtime.fault_points import fault
from fontanel.errors import QuotaReached
from fontanel.records.tables import (
    Channel,
    ChannelMessage,
    Conversation,
    Desk,
    Kb,
    MessageKind,
    MessageState,
    Turn,
    TurnState,
    now,
)
from fontanel.records.unit_of_work import Records

log = structlog.get_logger()

_ATTEMPTS = 3
_PAUSE = timedelta(seconds=5)
#: Threads of conversations that are looked at for the next message.
_LOOKED_AT = 200
_CLOSED = "This assistant cannot answer at the moment."
_BROKEN = "The answer failed. Please ask again later."
_PERSON = "Reply “person” to pass the question on to a person."


class MessageAnswerer:
    """Answers messages; several threads call `answer_next`."""

    def __init__(
        self, records: Records, asking: Asking, connections: Connections, origin: str
    ) -> None:
        self._records = records
        self._asking = asking
        self._connections = connections
        self._origin = origin
        self._cancelled = threading.Event()
        self._lock = threading.Lock()
        #: Threads of conversations in which a message is being answered, with their teams.
        self._busy: dict[tuple[str, str], str] = {}

    def stop(self) -> None:
        """Cancel answers; their messages are answered after the next start."""
        self._cancelled.set()

    def answer_next(self) -> bool:
        """Answer a message; return whether there was one."""
        if self._cancelled.is_set():
            return False
        message = self._claim()
        if message is None:
            return False
        try:
            self._answer(message)
        except QuotaReached as reached:
            self._finish(message, str(reached), reason=str(reached))
        except Exception:
            if not self._cancelled.is_set():
                log.exception("a message could not be answered", message=message.id)
                self._try_again(message)
        finally:
            with self._lock:
                self._busy.pop((message.channel_id, message.thread), None)
        return True

    def _claim(self) -> ChannelMessage | None:
        """Return the oldest message of a free thread, of the team with the fewest in progress."""
        first = func.min(ChannelMessage.received_at)
        query = (
            select(ChannelMessage.channel_id, ChannelMessage.thread, ChannelMessage.team_id)
            .where(ChannelMessage.state == MessageState.WAITING, ChannelMessage.run_after <= now())
            .group_by(ChannelMessage.channel_id, ChannelMessage.thread)
            .order_by(first)
        )
        with self._lock:
            with self._records.reading() as session:
                threads = session.execute(query.limit(_LOOKED_AT)).all()
                of_team = Counter(self._busy.values())
                free = [one for one in threads if (one[0], one[1]) not in self._busy]
                if not free:
                    return None
                channel_id, thread, team_id = min(free, key=lambda one: of_team[one[2]])
                message = session.scalar(
                    select(ChannelMessage)
                    .where(
                        ChannelMessage.channel_id == channel_id,
                        ChannelMessage.thread == thread,
                        ChannelMessage.state == MessageState.WAITING,
                    )
                    .order_by(ChannelMessage.received_at, ChannelMessage.id)
                    .limit(1)
                )
            if message is not None:
                self._busy[channel_id, thread] = team_id
        return message

    def _answer(self, message: ChannelMessage) -> None:
        with self._records.reading() as session:
            channel = session.get_one(Channel, message.channel_id)
            settings = settings_of(channel)
            target = _target(session, channel, asker_of(channel.id, message.sender))
            conversation = _conversation(session, message)
        if target is None:
            self._finish(message, _CLOSED, reason="The desk is not published, or has no documents.")
            return
        self._acknowledge(message)
        turn = self._turn(message, target, conversation)
        if turn is not None:
            self._reply(message, turn, settings)
        elif not self._cancelled.is_set():
            self._try_again(message)

    def _acknowledge(self, message: ChannelMessage) -> None:
        channel = self._connections.connected(message.channel_id)
        if channel is None:
            return
        try:
            channel.acknowledge(message.address)
        except ChannelUnavailable as error:
            log.info("a message was not acknowledged", message=message.id, error=str(error))

    def _turn(
        self, message: ChannelMessage, target: Target, conversation: str | None
    ) -> Turn | None:
        """Return the turn of a message; None if it was cancelled."""
        asker = asker_of(message.channel_id, message.sender)
        earlier = self._asking.earlier(asker, message.id)
        if earlier is not None and earlier.state == TurnState.DONE:
            return earlier
        asked = Asked(
            question=message.text,
            asker=asker,
            request_id=message.id,
            conversation_id=conversation,
            key=message.id,
        )
        events = list(self._asking.ask(target, asked, None, self._cancelled))
        return next((event.turn for event in events if isinstance(event, Recorded)), None)

    def _reply(self, message: ChannelMessage, turn: Turn, settings: ChannelSettings) -> None:
        fault("message_answered")
        with self._records.reading() as session:
            marks = marks_of(session, turn, self._origin) if settings.list_sources else []
        text, sources = reply_text(turn.text, marks, settings.max_words)
        if turn.note:
            text += f"\n\n{turn.note}"
        if turn.outcome == "declined" and settings.hand_over_to:
            text += f"\n\n{_PERSON}"
        self._finish(message, text, turn=turn, sources=sources)

    def _finish(
        self,
        message: ChannelMessage,
        text: str,
        *,
        turn: Turn | None = None,
        sources: Sequence[Quoted] = (),
        reason: str = "",
    ) -> None:
        with self._records.writing() as session:
            row = session.get(ChannelMessage, message.id)
            if row is None or row.state != MessageState.WAITING:
                return  # it was deleted, or corrected in the meantime
            row.state, row.answered_at, row.run_after = MessageState.ANSWERED, now(), now()
            row.reply, row.reason, row.attempts = text, reason, 0
            row.sources = [asdict(source) for source in sources]
            if turn is not None:
                row.turn_id, row.conversation_id = turn.id, turn.conversation_id
            if row.kind == MessageKind.CORRECTION:
                row.replaces = _reply_of(session, row)

    def _try_again(self, message: ChannelMessage) -> None:
        with self._records.writing() as session:
            row = session.get(ChannelMessage, message.id)
            if row is None:
                return
            row.attempts += 1
            row.run_after = now() + _PAUSE * row.attempts
            failed = row.attempts >= _ATTEMPTS
        if failed:
            reason = "The answer failed inside the service; the log has the details."
            self._finish(message, _BROKEN, reason=reason)


def _target(session: Session, channel: Channel, asker: str) -> Target | None:
    """Return what a channel's desk is in the version that an asker gets."""
    desk = session.get_one(Desk, channel.desk_id)
    if published_settings(session, desk) is None:
        return None
    number = version_for(desk, asker)
    version = None if number is None else version_of(session, desk, number)
    if version is None:
        return None
    kbs = frozenset(session.scalars(select(Kb.id).where(Kb.team_id == desk.team_id)))
    target = desk_target(desk, version.settings, version.number, kbs)
    return target if target.kbs else None


def _conversation(session: Session, message: ChannelMessage) -> str | None:
    """Return the conversation that a thread has, if it still exists."""
    known = session.scalar(
        select(ChannelMessage.conversation_id)
        .where(
            ChannelMessage.channel_id == message.channel_id,
            ChannelMessage.thread == message.thread,
            ChannelMessage.conversation_id.is_not(None),
        )
        .order_by(ChannelMessage.received_at.desc())
        .limit(1)
    )
    exists = known is not None and session.get(Conversation, known) is not None
    return known if exists else None


def _reply_of(session: Session, row: ChannelMessage) -> str:
    """Return the identity of the reply to the question that a message corrects."""
    same = ChannelMessage.channel_id == row.channel_id
    earlier = session.scalars(
        select(ChannelMessage).where(
            same, (ChannelMessage.external_id == row.about) | (ChannelMessage.about == row.about)
        )
    )
    sent = [one for one in earlier if one.sent_id and one.id != row.id]
    last = max(sent, key=lambda one: one.received_at, default=None)
    return "" if last is None else last.replaces or last.sent_id
