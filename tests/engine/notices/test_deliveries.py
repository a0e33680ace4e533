"""Deliveries of notices.

Pauses between attempts, receivers that are gone, retention.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import select, update
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route
from tests.conftest import until

from fontanel.engine.notices.deliveries import PAUSES
from fontanel.engine.notices.webhooks import is_signed, new_webhook_secret
from fontanel.engine.runtime.retention import apply_retention
from fontanel.engine.runtime.runtime import Runtime
from fontanel.records.tables import Conversation, Delivery, JobState, Notice, Receiver, Team, now
from fontanel.settings import Settings

SECRET = new_webhook_secret()


class Inbox:
    """A receiver: what it was sent, and the status that it replies with."""

    def __init__(self) -> None:
        self.status = 204
        self.signed: list[bool] = []

    async def take(self, request: Request) -> Response:
        self.signed.append(is_signed(SECRET, dict(request.headers), await request.body()))
        return Response(status_code=self.status)


@pytest.fixture
def inbox(serve: Callable[[Any], str], runtime: Runtime) -> Inbox:
    """A receiver of team A's notices, with one notice to deliver."""
    result = Inbox()
    url = serve(Starlette(routes=[Route("/", result.take, methods=["POST"])]))
    with runtime.records.writing() as session:
        session.add(
            Receiver(
                id="rec_a", team_id="team_a", url=url, secret=runtime.vault.seal(SECRET), kinds=[]
            )
        )
        session.add(Notice(id="not_a", team_id="team_a", kind="run.failed", message="m", data={}))
        session.flush()
        session.add(
            Delivery(
                id="del_a",
                team_id="team_a",
                receiver_id="rec_a",
                notice_id="not_a",
                state=JobState.WAITING,
            )
        )
    return result


@pytest.fixture
def runtime(tmp_path: Path) -> Iterator[Runtime]:
    """A runtime that does nothing by itself, with a team."""
    settings = Settings(data=tmp_path / "data", source_networks="127.0.0.0/8")
    result = Runtime(settings)
    with result.records.writing() as session:
        team = Team(id="team_a", slug="a", name="A", kept_days=30)
        team.source_folders, team.source_networks = None, None
        session.add(team)
    yield result
    result.stop()


def delivery(runtime: Runtime) -> Delivery:
    with runtime.records.reading() as session:
        return session.get_one(Delivery, "del_a")


def attempt(runtime: Runtime) -> Delivery:
    """Deliver what is due, as if the pause were over, and return the outcome."""
    attempts = delivery(runtime).attempts
    with runtime.records.writing() as session:
        session.execute(update(Delivery).values(run_after=now()))

    def attempted() -> bool:
        # The receiver of the attempt before may still count as busy.
        runtime.deliveries.deliver_due()
        return delivery(runtime).attempts > attempts

    until(attempted)
    return delivery(runtime)


def test_a_delivery_is_signed_and_sent_once(runtime: Runtime, inbox: Inbox) -> None:
    assert attempt(runtime).state == JobState.DONE
    runtime.deliveries.deliver_due()
    assert inbox.signed == [True]


def test_pauses_grow_until_the_delivery_fails(runtime: Runtime, inbox: Inbox) -> None:
    inbox.status = 503
    for pause in PAUSES:
        before = now()
        row = attempt(runtime)
        assert row.state == JobState.WAITING
        assert row.error == "It answered with status 503."
        due = timedelta(seconds=pause)
        assert before + due <= row.run_after <= now() + due
    assert attempt(runtime).state == JobState.FAILED
    assert len(inbox.signed) == len(PAUSES) + 1
    assert list(PAUSES) == sorted(PAUSES)


def test_a_delivery_recovers_with_its_receiver(runtime: Runtime, inbox: Inbox) -> None:
    inbox.status = 500
    assert attempt(runtime).state == JobState.WAITING
    inbox.status = 200
    row = attempt(runtime)
    assert (row.state, row.attempts, row.error) == (JobState.DONE, 2, None)


def test_a_receiver_that_is_gone_is_not_tried_again(runtime: Runtime, inbox: Inbox) -> None:
    inbox.status = 410
    row = attempt(runtime)
    assert (row.state, row.attempts) == (JobState.FAILED, 1)


def test_a_paused_receiver_is_sent_nothing(runtime: Runtime, inbox: Inbox) -> None:
    with runtime.records.writing() as session:
        session.get_one(Receiver, "rec_a").paused = True
    assert attempt(runtime).state == JobState.FAILED
    assert inbox.signed == []


@pytest.mark.parametrize(("days", "kept"), [(29, True), (31, False)])
def test_notices_are_deleted_after_a_month(
    runtime: Runtime, inbox: Inbox, days: int, kept: bool
) -> None:
    with runtime.records.writing() as session:
        session.execute(update(Notice).values(created_at=now() - timedelta(days=days)))
    runtime.deliveries.delete_old()
    with runtime.records.reading() as session:
        assert (session.get(Notice, "not_a") is not None) is kept
        assert (session.get(Delivery, "del_a") is not None) is kept


def test_conversations_are_deleted_after_their_teams_retention(runtime: Runtime) -> None:
    def conversation(name: str, team: str, changed: datetime) -> Conversation:
        return Conversation(id=name, team_id=team, asker="p", title=name, changed_at=changed)

    with runtime.records.writing() as session:
        session.add(Team(id="team_b", slug="b", name="B", kept_days=None))
        session.flush()
        session.add(conversation("old", "team_a", now() - timedelta(days=31)))
        session.add(conversation("recent", "team_a", now() - timedelta(days=29)))
        session.add(conversation("unlimited", "team_b", now() - timedelta(days=4000)))
    apply_retention(runtime.records)
    with runtime.records.reading() as session:
        assert set(session.scalars(select(Conversation.id))) == {"recent", "unlimited"}
