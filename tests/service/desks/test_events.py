"""Events of questions, feedback and gaps, sent to receivers that name them; exports of answers."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from standardwebhooks import Webhook

from fontanel import schemas as s
from fontanel.client import NotAllowed, NotFound
from tests.conftest import STORM, Service, TeamSetup, new_team, until

QUESTION = "At what gust does the quay crane stop?"
UNKNOWN = "Who won the regatta of 1911?"


@pytest.fixture
def reached(tmp_path: Path) -> Iterator[TeamSetup]:
    """A team of a service that may send to this machine."""
    own = Service(tmp_path / "data", {"FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8"}).start()
    team = new_team(own)
    kb = team.client.create_kb("Rules").slug
    team.client.add_document(kb, STORM, "storm.md", wait=True)
    yield team
    own.stop()


def test_receivers_are_sent_what_they_name(
    reached: TeamSetup,
    receiver: tuple[str, list[tuple[dict[str, str], bytes]], list[int]],
) -> None:
    client = reached.client
    url, got, _ = receiver
    events: list[dict[str, Any]] = []

    made = client.add_receiver(
        url,
        ["answer.answered", "answer.declined", "feedback.given", "gap.opened"],
    )
    plain = client.add_receiver(url.replace("/events", "/notices"))
    client.publish_desk(client.create_desk("Desk", s.DeskSettings(kbs=[s.DeskKb(kb="rules")])).slug)
    answered = client.ask_desk("desk", QUESTION)
    client.give_feedback("desk", answered.turn_id, helpful=False, comment="It is out of date.")
    client.ask("rules", UNKNOWN)

    def kinds() -> list[str]:
        events.clear()
        for headers, body in got:
            if headers["path"] == "/events":
                Webhook(made.secret).verify(body, headers)
                events.append(json.loads(body))
        return sorted(event["type"] for event in events)

    wanted = ["answer.answered", "answer.declined", "feedback.given", "gap.opened", "gap.opened"]
    until(lambda: kinds() == [f"fontanel.{kind}" for kind in wanted])
    by_kind = {event["type"].removeprefix("fontanel."): event["data"] for event in events}
    assert by_kind["answer.answered"]["question"] == QUESTION
    assert by_kind["answer.answered"]["answer"] == answered.turn_id
    assert len(by_kind["answer.answered"]["documents"]) == 1
    assert by_kind["answer.declined"]["question"] == UNKNOWN
    assert by_kind["answer.declined"]["documents"] == []
    assert by_kind["feedback.given"]["comment"] == "It is out of date."
    assert reached.email not in json.dumps(events)
    # They are no notices: neither shown, nor sent to who did not name them.
    assert [one for one in client.list_notices().items if one.kind.startswith("answer")] == []
    assert [headers["path"] for headers, _ in got if headers["path"] != "/events"] == []
    assert [one.waiting for one in client.list_receivers() if one.id == plain.id] == [0]


def test_answers_are_exported_as_lines(service: Service, team: TeamSetup, storm: str) -> None:
    client = team.client
    assert list(client.export_answers()) == []
    other = client.create_kb("Notices").slug
    client.write_document(other, "canteen.md", "# Canteen\n\nThe canteen opens at six.\n")
    client.wait_for_document(other, "canteen.md")
    desk = client.create_desk("Desk", s.DeskSettings(kbs=[s.DeskKb(kb=storm)]))
    client.publish_desk(desk.id)
    asked = [
        client.ask_desk(desk.id, QUESTION),
        client.ask(storm, UNKNOWN),
        client.ask(other, "When does the canteen open?"),
    ]
    client.give_feedback(desk.id, asked[0].turn_id, helpful=True)
    lines = list(client.export_answers())
    assert [one.id for one in lines] == [one.turn_id for one in asked]
    assert [one.outcome for one in lines] == ["answered", "declined", "answered"]
    assert lines[0].citations[0].quote in STORM.decode()
    assert [one.helpful for one in lines[0].feedback] == [True]
    assert [one.id for one in client.export_answers(desk.slug)] == [asked[0].turn_id]
    between = client.export_answers(since=lines[1].created_at, until=lines[2].created_at)
    assert [one.id for one in between] == [asked[1].turn_id]
    later = lines[2].created_at + timedelta(seconds=1)
    assert list(client.export_answers(since=later)) == []
    with pytest.raises(NotFound):
        list(client.export_answers("nowhere"))
    with pytest.raises(NotAllowed):
        list(team.with_role("reader").export_answers())
    key = client.make_key("limited", "editor", [other])
    limited = type(client)(service.url, key.secret, team.slug)
    assert [one.id for one in limited.export_answers()] == [asked[2].turn_id]


def test_more_answers_than_are_read_at_once(team: TeamSetup, storm: str) -> None:
    client = team.client
    asked = [client.ask(storm, f"hello {number}").turn_id for number in range(205)]
    assert [one.id for one in client.export_answers()] == asked
