"""Sending notices to receivers: CloudEvents 1.0 in structured mode over HTTP POST, signed, retried for a day."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import threading
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import timedelta

import httpx
import structlog
from sqlalchemy import delete, func, select

from fontanel.engine.sync.limits import surroundings
from fontanel.records.database import Sessions, writing
from fontanel.records.tables import Delivery, JobState, Notice, Receiver, Team, now
from fontanel.records.vault import SecretsLost, Vault
from fontanel.settings import Settings
from fontanel.sources.network.reach import NotAllowed, http_client

log = structlog.get_logger()

#: Pauses before each further try: about a day in all.
_PAUSES = (5, 30, 120, 600, 1800, 3600, 3600 * 3, 3600 * 6, 3600 * 12)
_KEPT_DAYS = 30
#: Receivers that are served at once, in all and of one team.
_MOST_AT_ONCE, _OF_ONE_TEAM = 16, 3


def cloud_event(notice: Notice, origin: str) -> dict[str, object]:
    """A notice as a CloudEvent (CloudEvents 1.0, JSON format)."""
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


def signature(secret: str, message_id: str, moment: str, body: bytes) -> str:
    """As the Standard Webhooks specification lays down: HMAC-SHA256 over id, time and body."""
    signed = f"{message_id}.{moment}.".encode() + body
    return (
        "v1,"
        + base64.b64encode(hmac.new(secret.encode(), signed, hashlib.sha256).digest()).decode()
    )


class Deliveries:
    """`round` sends what is due; called by one thread. Receivers are served at once, each one's events one after the other, so that
    a slow one keeps nobody else waiting."""

    def __init__(
        self,
        sessions: Sessions,
        vault: Vault,
        settings: Settings,
        stopping: Callable[[], bool],
        wake: Callable[[], None],
    ) -> None:
        self._sessions = sessions
        self._vault = vault
        self._settings = settings
        self._wake = wake
        self._stopping = stopping
        self._pool = ThreadPoolExecutor(_MOST_AT_ONCE, thread_name_prefix="deliver")
        #: What is being sent, by receiver.
        self._sending: dict[str, Future[None]] = {}
        self._teams: Counter[str] = Counter()
        self._lock = threading.Lock()

    def round(self) -> bool:
        """Begin to send the oldest event that is due of each receiver that is not busy."""
        with self._lock:
            self._sending = {
                receiver: future for receiver, future in self._sending.items() if not future.done()
            }
            busy = set(self._sending)
        first = (
            func.row_number()
            .over(partition_by=Delivery.receiver_id, order_by=Delivery.run_after)
            .label("place")
        )
        due = (
            select(Delivery.id, Delivery.receiver_id, Delivery.team_id, first)
            .where(
                Delivery.state == JobState.WAITING,
                Delivery.run_after <= now(),
                Delivery.receiver_id.not_in(busy),
            )
            .subquery()
        )
        with self._sessions() as session:
            oldest = select(due.c.id, due.c.receiver_id, due.c.team_id).where(due.c.place == 1)
            rows = session.execute(oldest).tuples().all()
        for delivery_id, receiver_id, team_id in rows:
            if self._stopping():
                break
            with self._lock:
                if self._teams[team_id] < _OF_ONE_TEAM and len(self._sending) < _MOST_AT_ONCE:
                    self._teams[team_id] += 1
                    self._sending[receiver_id] = self._pool.submit(
                        self._send_for, team_id, delivery_id
                    )
        return False

    def _send_for(self, team_id: str, delivery_id: str) -> None:
        try:
            self._send(delivery_id)
        except Exception:
            log.exception("delivery failed", delivery=delivery_id)
        finally:
            with self._lock:
                self._teams[team_id] -= 1
            self._wake()

    def stop(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)

    def _send(self, delivery_id: str) -> None:
        with self._sessions() as session:
            delivery = session.get(Delivery, delivery_id)
            if delivery is None:
                return
            receiver = session.get_one(Receiver, delivery.receiver_id)
            notice = session.get_one(Notice, delivery.notice_id)
            team = session.get_one(Team, delivery.team_id)
        if receiver.paused:
            self._note(delivery_id, "The receiver is paused.", final=True)
            return
        body = json.dumps(cloud_event(notice, self._settings.origin)).encode()
        try:
            secret = self._vault.open(receiver.secret)
            moment = str(int(time.time()))
            headers = {
                "Content-Type": "application/cloudevents+json; charset=utf-8",
                "webhook-id": notice.id,
                "webhook-timestamp": moment,
                "webhook-signature": signature(secret, notice.id, moment, body),
            }
            limits = surroundings(self._settings, team, stopping=self._stopping)
            with (
                http_client(limits) as client,
                client.stream("POST", receiver.url, content=body, headers=headers) as response,
            ):
                # Redirects are not followed: an event goes to the address that was named. What the answer says is not read.
                pass
            error = (
                None if response.is_success else f"It answered with status {response.status_code}."
            )
            final = response.status_code == 410
        except NotAllowed as refused:
            error, final = str(refused), True
        except (httpx.HTTPError, SecretsLost) as failed:
            error, final = str(failed) or type(failed).__name__, False
        self._note(delivery_id, error, final)

    def _note(self, delivery_id: str, error: str | None, final: bool) -> None:
        with writing(self._sessions) as session:
            delivery = session.get(Delivery, delivery_id)
            if delivery is None:
                return
            delivery.attempts += 1
            delivery.error = error
            if error is None:
                delivery.state, delivery.sent_at = JobState.DONE, now()
            elif final or delivery.attempts > len(_PAUSES):
                delivery.state = JobState.FAILED
            else:
                delivery.run_after = now() + timedelta(seconds=_PAUSES[delivery.attempts - 1])
            session.commit()

    def forget_old(self) -> None:
        """Drop notices of long ago, with their deliveries."""
        with writing(self._sessions) as session:
            session.execute(
                delete(Notice).where(Notice.created_at < now() - timedelta(days=_KEPT_DAYS))
            )
            session.commit()
