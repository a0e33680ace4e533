"""Send replies, with retries."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from functools import partial

import structlog
from sqlalchemy import func, select

from fontanel.channels import protocol
from fontanel.channels.protocol import ChannelUnavailable, MessageRefused, Outgoing, Quoted
from fontanel.engine.channels.channels import record_state
from fontanel.engine.channels.connections import Connections
from fontanel.engine.channels.opening import kind_of, open_channel
from fontanel.engine.runtime.fault_points import fault
from fontanel.engine.runtime.pool import FairPool
from fontanel.engine.sync.limits import source_limits
from fontanel.errors import Refused, SecretUnreadable
from fontanel.records.tables import Channel, ChannelMessage, MessageKind, MessageState, Team, now
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault
from fontanel.settings import Settings

log = structlog.get_logger()

_BROKEN = "It could not be sent because of a fault of the service; the log has the details."
#: Seconds before each further attempt: about a day in all.
PAUSES = (1, 2, 5, 10, 30, 60, 120, 600, 1800, 3600, 3600 * 3, 3600 * 6, 3600 * 12)
#: Channels that replies are sent to at once, in all and of one team.
_MAX_CHANNELS, _MAX_OF_TEAM = 16, 4
#: Replies sent through a channel before others get their turn.
_MAX_REPLIES = 50


class MessageSender:
    """Sends the replies of several channels at once, in order within each."""

    def __init__(
        self,
        *,
        records: Records,
        vault: Vault,
        settings: Settings,
        connections: Connections,
        stopping: Callable[[], bool],
    ) -> None:
        self._records = records
        self._vault = vault
        self._settings = settings
        self._connections = connections
        self._stopping = stopping
        self._pool = FairPool("send-replies", _MAX_CHANNELS, _MAX_OF_TEAM)

    def stop(self) -> None:
        """Send no further replies."""
        self._pool.stop()

    def send_due(self) -> None:
        """Start sending to each channel that has replies and is not busy."""
        due = (
            select(ChannelMessage.channel_id, ChannelMessage.team_id)
            .join(Channel, Channel.id == ChannelMessage.channel_id)
            .where(
                ChannelMessage.state == MessageState.ANSWERED,
                ChannelMessage.run_after <= now(),
                ChannelMessage.channel_id.not_in(self._pool.busy()),
                Channel.paused.is_(False),
            )
            .group_by(ChannelMessage.channel_id, ChannelMessage.team_id)
            .order_by(func.min(ChannelMessage.run_after))
        )
        with self._records.reading() as session:
            channels = session.execute(due).all()
        for channel_id, team_id in channels:
            if self._stopping():
                return
            self._pool.start(channel_id, team_id, partial(self._send_replies, channel_id))

    def _send_replies(self, channel_id: str) -> None:
        with self._records.reading() as session:
            row = session.get(Channel, channel_id)
            team = None if row is None else session.get_one(Team, row.team_id)
        if row is None or team is None:
            return
        if kind_of(row.kind).accept is None:
            connected = self._connections.connected(channel_id)
            if connected is not None:
                self._send_all(channel_id, connected)
            return
        limits = source_limits(self._settings, team, stopping=self._stopping)
        try:
            opened = open_channel(row, self._vault, limits)
        except (Refused, SecretUnreadable) as error:
            record_state(self._records, channel_id, str(error), final=True)
            self._put_off(channel_id)
            return
        try:
            self._send_all(channel_id, opened)
        finally:
            opened.close()

    def _send_all(self, channel_id: str, channel: protocol.Channel) -> None:
        for _ in range(_MAX_REPLIES):
            message = None if self._stopping() else self._next(channel_id)
            if message is None:
                return
            try:
                sent_id = channel.send(outgoing(message))
            except MessageRefused as error:
                self._refused(message, str(error))
                continue
            except ChannelUnavailable as error:
                self._failed(message, error)
                return
            except Exception:
                # It would fail each time, and stand in the way of the others.
                log.exception("a reply could not be sent", message=message.id)
                self._refused(message, _BROKEN)
                continue
            fault("reply_sent")
            self._sent(message, sent_id)

    def _next(self, channel_id: str) -> ChannelMessage | None:
        due = select(ChannelMessage).where(
            ChannelMessage.channel_id == channel_id,
            ChannelMessage.state == MessageState.ANSWERED,
            ChannelMessage.run_after <= now(),
        )
        with self._records.reading() as session:
            return session.scalar(due.order_by(ChannelMessage.answered_at).limit(1))

    def _sent(self, message: ChannelMessage, sent_id: str) -> None:
        with self._records.writing() as session:
            row = session.get(ChannelMessage, message.id)
            if row is not None:
                row.state, row.sent_id, row.sent_at = MessageState.SENT, sent_id, now()
                row.attempts, row.reason = row.attempts + 1, ""
        record_state(self._records, message.channel_id, None)

    def _failed(self, message: ChannelMessage, error: ChannelUnavailable) -> None:
        with self._records.writing() as session:
            row = session.get(ChannelMessage, message.id)
            if row is None:
                return
            row.attempts += 1
            row.reason = str(error)
            if not error.again or row.attempts > len(PAUSES):
                row.state = MessageState.FAILED
            else:
                row.run_after = now() + timedelta(seconds=PAUSES[row.attempts - 1])
        record_state(self._records, message.channel_id, str(error), final=not error.again)

    def _refused(self, message: ChannelMessage, reason: str) -> None:
        with self._records.writing() as session:
            row = session.get(ChannelMessage, message.id)
            if row is not None:
                row.attempts += 1
                row.state, row.reason = MessageState.FAILED, reason

    def _put_off(self, channel_id: str) -> None:
        """Try the replies of a channel that cannot be opened again in a minute."""
        with self._records.writing() as session:
            waiting = select(ChannelMessage).where(
                ChannelMessage.channel_id == channel_id,
                ChannelMessage.state == MessageState.ANSWERED,
            )
            for row in session.scalars(waiting):
                row.run_after = now() + timedelta(minutes=1)


def outgoing(message: ChannelMessage) -> Outgoing:
    """Return the reply of a message as its channel sends it."""
    own = message.kind == MessageKind.NOTE
    return Outgoing(
        id=message.id,
        text=message.reply,
        address=message.address,
        sources=[Quoted(**source) for source in message.sources],
        in_reply_to="" if own else message.external_id,
        replaces=message.replaces,
    )
