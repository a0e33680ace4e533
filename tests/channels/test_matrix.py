"""Matrix: rooms of a real homeserver."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Invalid
from tests.channels.conftest import FOLLOW_UP, QUESTION, UNKNOWN
from tests.channels.homeserver import Homeserver, Person, homeserver, running
from tests.conftest import TeamSetup, until


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Homeserver]:
    with homeserver(tmp_path / "matrix") as started:
        yield started


@pytest.fixture
def mate(server: Homeserver) -> Person:
    return server.person("mate")


def connect(team: TeamSetup, server: Homeserver, **settings: object) -> None:
    team.client.create_channel(
        s.ChannelIn(
            name="Rooms",
            desk="harbour-desk",
            kind="matrix",
            settings={"server": server.url, **settings},
            credentials={"user": "ask", "password": "tide-table"},
        )
    )
    until(lambda: team.client.show_channel("Rooms").connected_at)


def test_somebody_asks_alone(asked: TeamSetup, server: Homeserver, mate: Person) -> None:
    ask, cook = server.person("ask"), server.person("cook")
    watch = cook.create_room(ask.id, mate.id, alias="watch")
    connect(asked, server, hand_over_to=f"#watch:{ask.id.partition(':')[2]}")
    until(lambda: ask.id in cook.members(watch))
    room = mate.create_room(ask.id)
    until(lambda: ask.id in mate.members(room))
    first = mate.write(room, QUESTION)
    answer = mate.answer(room, "38 knots")["content"]
    assert answer["msgtype"] == "m.notice"
    assert answer["m.relates_to"]["m.in_reply_to"]["event_id"] == first
    assert "<a href=" in answer["formatted_body"]
    mate.react(room, mate.answer(room, "38 knots")["event_id"], "👍️")
    until(lambda: asked.client.list_feedback(helpful=True))
    mate.write(room, FOLLOW_UP)
    until(lambda: len(mate.answers(room, "44 knots")) == 2)

    wrong = mate.write(room, "How deep is berth 4?")
    shown = mate.answer(room, "6.8 m")
    new = {"msgtype": "m.text", "body": "How deep is berth 5?"}
    relation = {"rel_type": "m.replace", "event_id": wrong}
    mate.write(room, "* How deep is berth 5?", **{"m.new_content": new, "m.relates_to": relation})
    edited = mate.answer(room, "4.2 m")["content"]
    assert edited["m.relates_to"] == {"rel_type": "m.replace", "event_id": shown["event_id"]}

    mate.write(room, UNKNOWN)
    mate.answer(room, "do not answer")
    mate.write(room, "person")
    assert UNKNOWN in cook.answer(watch, UNKNOWN)["content"]["body"]
    mate.write(room, "I am a program.", msgtype="m.notice")
    mate.call(
        "PUT", f"/rooms/{room}/send/m.room.encrypted/e1", {"algorithm": "x", "ciphertext": ""}
    )
    until(lambda: len(list(asked.client.list_channel_messages("Rooms", "ignored"))) == 2)
    assert asked.client.test_channel("Rooms", watch).state == "sent"
    refused = asked.client.test_channel("Rooms", "!nowhere:skerrow.example")
    assert refused.state == "failed"
    assert asked.client.show_channel("Rooms").failing is None


def test_a_room_of_several(asked: TeamSetup, server: Homeserver, mate: Person) -> None:
    ask, cook = server.person("ask"), server.person("cook")
    connect(asked, server, allowed=["*:skerrow.example"])
    room = mate.create_room(ask.id, cook.id)
    cook.call("POST", f"/rooms/{room}/join", {})
    until(lambda: ask.id in mate.members(room))
    mate.write(room, "Good morning, all.")
    root = mate.write(room, f"{ask.id}: {QUESTION}", **{"m.mentions": {"user_ids": [ask.id]}})
    answer = cook.answer(room, "38 knots")
    relation = {"rel_type": "m.thread", "event_id": root}
    assert answer["content"]["m.relates_to"].items() >= relation.items()
    cook.write(room, FOLLOW_UP, **{"m.relates_to": relation})
    until(lambda: len(mate.answers(room, "44 knots")) == 2)
    cook.react(room, root, "👍")
    mate.write(room, "ask, who won the regatta of 1911?")
    mate.answer(room, "do not answer")
    until(lambda: len(list(asked.client.list_channel_messages("Rooms", "sent"))) == 3)
    messages = list(asked.client.list_channel_messages("Rooms"))
    assert [one.state for one in messages] == ["sent"] * 3
    assert messages[1].conversation_id == messages[2].conversation_id
    assert messages[0].conversation_id != messages[1].conversation_id


def test_the_homeserver_restarts(asked: TeamSetup, tmp_path: Path) -> None:
    with homeserver(tmp_path / "matrix") as server:
        mate, ask = server.person("mate"), server.person("ask")
        connect(asked, server)
        room = mate.create_room(ask.id)
        until(lambda: ask.id in mate.members(room))
        asked.client.change_channel("Rooms", s.ChannelChange(paused=True))
        # More is written than one look returns.
        mate.write(room, QUESTION)
        for number in range(60):
            mate.write(room, f"Note {number}", msgtype="m.emote")
    asked.client.change_channel("Rooms", s.ChannelChange(paused=False))
    until(lambda: asked.client.show_channel("Rooms").failing)
    with running(server):
        mate.answer(room, "38 knots")
        until(lambda: asked.client.show_channel("Rooms").failing is None)
    until(lambda: [one.state for one in asked.client.list_channel_messages("Rooms")] == ["sent"])


@pytest.mark.parametrize("point", ["message_taken", "message_answered", "reply_sent"])
def test_killed_between_receipt_and_answer(
    asked: TeamSetup, server: Homeserver, mate: Person, point: str
) -> None:
    ask = server.person("ask")
    connect(asked, server)
    room = mate.create_room(ask.id)
    until(lambda: ask.id in mate.members(room))
    service = asked.service
    service.stop()
    service.start(FONTANEL_FAULT=point)
    mate.write(room, QUESTION)
    until(lambda: service.process is not None and service.process.poll() is not None)
    service.start()
    until(lambda: [one.state for one in asked.client.list_channel_messages("Rooms")] == ["sent"])
    # The homeserver recognises a reply that is sent again.
    mate.answer(room, "38 knots")
    assert len(list(asked.client.export_answers("harbour-desk"))) == 1


def test_what_cannot_be_used(asked: TeamSetup, server: Homeserver) -> None:
    body = s.ChannelIn(
        name="Bad", desk="harbour-desk", kind="matrix", settings={"server": server.url}
    )
    with pytest.raises(Invalid) as problem:
        asked.client.create_channel(body)
    assert problem.value.problem.field == "credentials.token"
    wrong = {"user": "ask", "password": "wrong"}
    asked.client.create_channel(body.model_copy(update={"credentials": wrong}))
    until(lambda: asked.client.show_channel("Bad").failing)
    assert "403" in str(asked.client.show_channel("Bad").failing)
    assert [one.kind for one in asked.client.list_notices().items] == ["channel.failing"]
