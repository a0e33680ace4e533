"""Messages that are posted: many that arrive at once are stored in one unit of work."""

from __future__ import annotations

import threading
from dataclasses import dataclass

from fontanel.channels.protocol import Incoming
from fontanel.engine.channels.receiving import take_messages
from fontanel.engine.runtime.fault_points import fault
from fontanel.errors import NotFound
from fontanel.records.tables import Channel, ChannelMessage
from fontanel.records.unit_of_work import Records

#: Messages that are stored together.
_BATCH = 100


@dataclass(slots=True)
class _Posted:
    """A message, and once it was stored its row, or the error."""

    channel_id: str
    message: Incoming
    done: bool = False
    row: ChannelMessage | None = None
    error: Exception | None = None


class Inbox:
    """Stores posted messages.

    Whoever comes first stores those of all who wait by then; the others find theirs stored.
    """

    def __init__(self, records: Records, origin: str) -> None:
        self._records = records
        self._origin = origin
        self._lock = threading.Lock()
        self._storing = threading.Lock()
        self._waiting: list[_Posted] = []

    def take(self, channel_id: str, message: Incoming) -> ChannelMessage | None:
        """Store a message, and return its row once it is safe; None if it is known already.

        Raises:
            NotFound: the channel is gone.
            Busy: other changes took too long.
        """
        own = _Posted(channel_id, message)
        with self._lock:
            self._waiting.append(own)
        with self._storing:
            while not own.done:
                self._store_waiting()
        if own.error is not None:
            raise own.error
        return own.row

    def _store_waiting(self) -> None:
        with self._lock:
            batch, self._waiting = self._waiting[:_BATCH], self._waiting[_BATCH:]
        try:
            with self._records.writing() as session:
                for posted in batch:
                    channel = session.get(Channel, posted.channel_id)
                    if channel is None:
                        posted.error = NotFound("channel", posted.channel_id)
                        continue
                    try:
                        with session.begin_nested():
                            rows = take_messages(session, channel, [posted.message], self._origin)
                    except Exception as error:  # one message must not take others down
                        posted.error = error
                    else:
                        posted.row = rows[0] if rows else None
            fault("message_taken")
        except Exception as error:
            for posted in batch:
                posted.error = posted.error or error
        finally:
            for posted in batch:
                posted.done = True
