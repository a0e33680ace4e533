"""Delivering notices to receivers.

CloudEvents 1.0 over HTTP POST, signed, retried.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import timedelta
from functools import partial

import httpx
from sqlalchemy import delete, func, select

from fontanel.engine.notices.webhooks import signed_headers
from fontanel.engine.runtime.pool import FairPool
from fontanel.engine.sync.limits import source_limits
from fontanel.errors import SecretUnreadable
from fontanel.records.tables import Delivery, JobState, Notice, Receiver, Team, now
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault
from fontanel.settings import Settings
from fontanel.sources.network.reach import AddressForbidden, http_client

#: Seconds before each further attempt: about a day in all.
PAUSES = (5, 30, 120, 600, 1800, 3600, 3600 * 3, 3600 * 6, 3600 * 12)
_NOTICES_KEPT = timedelta(days=30)
#: Receivers that events are sent to at once, in all and of one team.
_MAX_RECEIVERS, _MAX_RECEIVERS_OF_TEAM = 16, 3
#: Events sent to a receiver before others get their turn.
_MAX_EVENTS = 20
_GONE = 410


def cloud_event(notice: Notice, origin: str) -> dict[str, object]:
    """Return a notice as a CloudEvent (CloudEvents 1.0, JSON format)."""
    about = f"kbs/{notice.kb_id}" if notice.kb_id else f"teams/{notice.team_id}"
    return {
        "specversion": "1.0",
        "id": notice.id,
        "source": f"{origin}/{about}",
        "type": f"fontanel.{notice.kind}",
        "subject": notice.source_id or notice.kb_id or notice.team_id,
        "time": notice.created_at.isoformat(),
        "datacontenttype": "application/json",
        "data": {**notice.data, "message": notice.message},
    }


class Deliveries:
    """Delivers events to several receivers at once."""

    def __init__(
        self, records: Records, vault: Vault, settings: Settings, stopping: Callable[[], bool]
    ) -> None:
        self._records = records
        self._vault = vault
        self._settings = settings
        self._stopping = stopping
        self._pool = FairPool("deliver", _MAX_RECEIVERS, _MAX_RECEIVERS_OF_TEAM)

    def deliver_due(self) -> None:
        """Start deliveries that are due, to each receiver that is not busy."""
        due = (
            select(Delivery.receiver_id, Delivery.team_id)
            .where(
                Delivery.state == JobState.WAITING,
                Delivery.run_after <= now(),
                Delivery.receiver_id.not_in(self._pool.busy()),
            )
            .group_by(Delivery.receiver_id, Delivery.team_id)
            .order_by(func.min(Delivery.run_after))
        )
        with self._records.reading() as session:
            receivers = session.execute(due).all()
        for receiver_id, team_id in receivers:
            if self._stopping():
                break
            self._pool.start(receiver_id, team_id, partial(self._send_due, receiver_id))

    def stop(self) -> None:
        """Start no further deliveries."""
        self._pool.stop()

    def delete_old(self) -> None:
        """Delete old notices, with their deliveries."""
        with self._records.writing() as session:
            session.execute(delete(Notice).where(Notice.created_at < now() - _NOTICES_KEPT))

    def _send_due(self, receiver_id: str) -> None:
        """Send a receiver's due deliveries, oldest first."""
        for _ in range(_MAX_EVENTS):
            delivery_id = None if self._stopping() else self._next_due(receiver_id)
            if delivery_id is None:
                return
            self._send(delivery_id)

    def _next_due(self, receiver_id: str) -> str | None:
        due = select(Delivery.id).where(
            Delivery.receiver_id == receiver_id,
            Delivery.state == JobState.WAITING,
            Delivery.run_after <= now(),
        )
        with self._records.reading() as session:
            return session.scalar(due.order_by(Delivery.run_after).limit(1))

    def _send(self, delivery_id: str) -> None:
        with self._records.reading() as session:
            delivery = session.get(Delivery, delivery_id)
            if delivery is None:
                return
            receiver = session.get_one(Receiver, delivery.receiver_id)
            notice = session.get_one(Notice, delivery.notice_id)
            team = session.get_one(Team, delivery.team_id)
        if receiver.paused:
            self._record(delivery_id, "The receiver is paused.", final=True)
            return
        try:
            status = self._post(receiver, notice, team)
        except AddressForbidden as error:
            self._record(delivery_id, str(error), final=True)
        except (httpx.HTTPError, SecretUnreadable) as error:
            self._record(delivery_id, str(error) or type(error).__name__)
        else:
            failed = None if 200 <= status < 300 else f"It answered with status {status}."
            self._record(delivery_id, failed, final=status == _GONE)

    def _post(self, receiver: Receiver, notice: Notice, team: Team) -> int:
        """Send an event and return the status of the reply, whose body is not read.

        Redirects are not followed: an event is sent to the named address only.
        """
        body = json.dumps(cloud_event(notice, self._settings.origin))
        headers = {
            "Content-Type": "application/cloudevents+json; charset=utf-8",
            **signed_headers(self._vault.open(receiver.secret), notice.id, now(), body),
        }
        limits = source_limits(self._settings, team, stopping=self._stopping)
        with (
            http_client(limits) as client,
            client.stream("POST", receiver.url, content=body, headers=headers) as response,
        ):
            return response.status_code

    def _record(self, delivery_id: str, error: str | None, *, final: bool = False) -> None:
        """Record an attempt.

        Args:
            error: What failed; None on success.
            final: Do not retry.
        """
        with self._records.writing() as session:
            delivery = session.get(Delivery, delivery_id)
            if delivery is None:
                return
            delivery.attempts += 1
            delivery.error = error
            if error is None:
                delivery.state, delivery.sent_at = JobState.DONE, now()
            elif final or delivery.attempts > len(PAUSES):
                delivery.state = JobState.FAILED
            else:
                delivery.run_after = now() + timedelta(seconds=PAUSES[delivery.attempts - 1])
