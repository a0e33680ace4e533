"""Sending the audit log to a syslog server."""

from __future__ import annotations

import socket
import threading

import structlog
from sqlalchemy import func, select

from fontanel.engine.auditing.syslog import SyslogServer, message
from fontanel.records.audit import as_dict
from fontanel.records.tables import AuditEntry, AuditForwarding
from fontanel.records.unit_of_work import Records

log = structlog.get_logger()

_BATCH = 200
#: Seconds to wait after a failure: doubled each time, up to a limit.
_FIRST_WAIT, _MAX_WAIT = 1.0, 60.0


class Forwarding:
    """Sends new entries in order, and records how far: after a crash the last may come twice.

    An address that is new is sent what is recorded from then on.

    Raises:
        Refused: the address is not one.
    """

    def __init__(self, records: Records, address: str, stopping: threading.Event) -> None:
        self._records = records
        self._address = address
        self._stopping = stopping
        self._server = SyslogServer(address) if address else None
        self._wait = _FIRST_WAIT
        self._host = socket.gethostname()

    def forward_next(self) -> bool:
        """Send the next entries; return whether there were any."""
        if self._server is None:
            return False
        with self._records.reading() as session:
            sent = session.get(AuditForwarding, self._address)
            if sent is None:
                entries = []
            else:
                after = select(AuditEntry).where(AuditEntry.key > sent.key)
                entries = list(session.scalars(after.order_by(AuditEntry.key).limit(_BATCH)))
        if sent is None:
            self._begin()
            return True
        if not entries:
            return False
        try:
            self._server.send([message(as_dict(entry), self._host) for entry in entries])
        except OSError as error:
            log.warning("the audit log could not be sent", address=self._address, error=str(error))
            self._stopping.wait(self._wait)
            self._wait = min(self._wait * 2, _MAX_WAIT)
            return True
        self._wait = _FIRST_WAIT
        with self._records.writing() as session:
            session.get_one(AuditForwarding, self._address).key = entries[-1].key
        return True

    def _begin(self) -> None:
        with self._records.writing() as session:
            last = session.scalar(select(func.max(AuditEntry.key))) or 0
            session.add(AuditForwarding(address=self._address, key=last))
