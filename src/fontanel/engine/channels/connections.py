"""Channels that stay connected: a thread for each, which receives messages and reconnects."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import structlog
from sqlalchemy import select

from fontanel.channels import protocol
from fontanel.channels.kinds import KINDS
from fontanel.channels.protocol import ChannelUnavailable, Incoming
from fontanel.engine.channels.channels import record_state
from fontanel.engine.channels.opening import open_channel
from fontanel.engine.channels.receiving import take_messages
from fontanel.engine.runtime.fault_points import fault
from fontanel.engine.sync.limits import source_limits
from fontanel.errors import Refused, SecretUnreadable
from fontanel.records.tables import Channel, Team
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault
from fontanel.settings import Settings

log = structlog.get_logger()

#: Seconds before each further attempt to connect; the last one is repeated.
_PAUSES = (1.0, 2.0, 5.0, 15.0, 60.0)
#: Seconds before another attempt when only a person can help.
_LONG_PAUSE = 300.0
_JOIN = 5.0


@dataclass(slots=True)
class _Connection:
    """A channel's thread. `changed` is set to end it; `channel` is what is open, if anything."""

    version: int
    changed: threading.Event = field(default_factory=threading.Event)
    thread: threading.Thread | None = None
    channel: protocol.Channel | None = None


class Connections:
    """Keeps the connections of channels that are not paused."""

    def __init__(
        self, records: Records, vault: Vault, settings: Settings, stopping: Callable[[], bool]
    ) -> None:
        self._records = records
        self._vault = vault
        self._settings = settings
        self._stopping = stopping
        self._lock = threading.Lock()
        self._connections: dict[str, _Connection] = {}

    def connected(self, channel_id: str) -> protocol.Channel | None:
        """Return the open channel, None while it is not connected."""
        with self._lock:
            connection = self._connections.get(channel_id)
            return None if connection is None else connection.channel

    def keep(self) -> None:
        """Connect new channels, and end or renew those that were changed."""
        kinds = [kind.name for kind in KINDS.values() if kind.accept is None]
        query = select(Channel.id, Channel.version).where(
            Channel.kind.in_(kinds), Channel.paused.is_(False)
        )
        with self._records.reading() as session:
            versions = {row[0]: row[1] for row in session.execute(query)}
        with self._lock:
            for channel_id, connection in list(self._connections.items()):
                if versions.get(channel_id) != connection.version:
                    connection.changed.set()
                    if connection.thread is None or not connection.thread.is_alive():
                        del self._connections[channel_id]
            for channel_id, version in versions.items():
                if channel_id not in self._connections and not self._stopping():
                    self._connections[channel_id] = self._start(channel_id, version)

    def stop(self) -> None:
        """End all connections."""
        with self._lock:
            connections = list(self._connections.values())
        for connection in connections:
            connection.changed.set()
        for connection in connections:
            if connection.thread is not None:
                connection.thread.join(timeout=_JOIN)

    def _start(self, channel_id: str, version: int) -> _Connection:
        connection = _Connection(version)
        connection.thread = threading.Thread(
            target=self._run,
            args=(channel_id, connection),
            name=f"channel-{channel_id}",
            daemon=True,
        )
        connection.thread.start()
        return connection

    def _run(self, channel_id: str, connection: _Connection) -> None:
        failures = 0
        while not connection.changed.is_set() and not self._stopping():
            pause = _PAUSES[min(failures, len(_PAUSES) - 1)]
            try:
                worked = self._receive(channel_id, connection)
                failures = 1 if worked else failures + 1
            except Exception:
                log.exception("a channel failed", channel=channel_id)
                record_state(
                    self._records,
                    channel_id,
                    "It failed inside the service; the log has the details.",
                )
                failures += 1
            else:
                pause = _LONG_PAUSE if worked is None else pause
            connection.changed.wait(pause)

    def _receive(self, channel_id: str, connection: _Connection) -> bool | None:
        """Receive until the connection ends.

        Returns:
            Whether messages could be received; None if only a person can help.
        """
        with self._records.reading() as session:
            row = session.get(Channel, channel_id)
            team = None if row is None else session.get_one(Team, row.team_id)
        if row is None or team is None:
            return True
        worked = False

        def stopping() -> bool:
            return connection.changed.is_set() or self._stopping()

        def take(messages: Sequence[Incoming], position: str | None) -> None:
            nonlocal worked
            if not worked:
                worked = True
                connection.channel = channel
                record_state(self._records, channel_id, None)
            self._store(channel_id, messages, position)

        limits = source_limits(self._settings, team, stopping=stopping)
        channel: protocol.Channel | None = None
        try:
            channel = open_channel(row, self._vault, limits)
            channel.receive(take, stopping)
        except ChannelUnavailable as error:
            record_state(self._records, channel_id, str(error), final=not error.again)
            return worked if error.again else None
        except (Refused, SecretUnreadable) as error:
            record_state(self._records, channel_id, str(error), final=True)
            return None
        finally:
            connection.channel = None
            if channel is not None:
                channel.close()
        return worked

    def _store(self, channel_id: str, messages: Sequence[Incoming], position: str | None) -> None:
        if not messages and position is None:
            return
        with self._records.writing() as session:
            channel = session.get(Channel, channel_id)
            if channel is None:
                return
            stored = take_messages(session, channel, messages, self._settings.origin)
            if position is not None:
                channel.position = position
        if stored:
            fault("message_taken")
