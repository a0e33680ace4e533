"""XMPP: people and rooms of a real server."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Invalid
from tests.channels.chatting import ROOM, ChatServer, chat_server, running
from tests.channels.conftest import FOLLOW_UP, QUESTION, UNKNOWN
from tests.conftest import TeamSetup, until


@pytest.fixture
def chat(tmp_path: Path) -> Iterator[ChatServer]:
    (tmp_path / "chat").mkdir()
    with chat_server(tmp_path / "chat") as server:
        yield server


def connect(team: TeamSetup, chat: ChatServer, **settings: object) -> None:
    team.client.create_channel(
        s.ChannelIn(
            name="Chat",
            desk="harbour-desk",
            kind="xmpp",
            settings=chat.settings(**settings),
            credentials={"password": "tide-table"},
        )
    )
    until(lambda: team.client.show_channel("Chat").connected_at)


def test_a_person_asks(asked: TeamSetup, chat: ChatServer) -> None:
    connect(asked, chat, hand_over_to="cook@chat.localhost")
    with chat.person("mate") as mate, chat.person("cook") as cook:
        first = mate.write(QUESTION)
        answer = mate.answer("38 knots")
        assert answer["type"] == "chat"
        assert answer["reply"]["id"] == first
        assert "[1] Storm plan" in answer["body"]
        assert any(one["chat_state"] == "composing" for one in mate.received)
        mate.write(FOLLOW_UP)
        until(lambda: len(mate.answers("44 knots")) == 2)
        mate.react(answer, "👍")
        until(lambda: asked.client.list_feedback(helpful=True))
        asked_wrong = mate.write("How deep is berth 4?")
        wrong = mate.answer("6.8 m")
        mate.write("How deep is berth 5?", corrects=asked_wrong)
        assert mate.answer("4.2 m")["replace"]["id"] == wrong["id"]
        mate.write(UNKNOWN)
        mate.answer("do not answer")
        mate.write("Person")
        mate.answer("passed on")
        assert UNKNOWN in cook.answer(UNKNOWN)["body"]
        assert asked.client.test_channel("Chat", "mate@chat.localhost").state == "sent"
        mate.answer("test message")
    conversations = {
        one.conversation_id
        for one in asked.client.list_channel_messages("Chat")
        if one.conversation_id
    }
    assert len(conversations) == 1


def test_a_room_asks(asked: TeamSetup, chat: ChatServer) -> None:
    connect(asked, chat, allowed=["*@chat.localhost"])
    with chat.person("mate") as mate, chat.person("cook") as cook:
        mate.write("Good morning, all.", to=ROOM)
        mate.write(f"Fontanel: {QUESTION}", to=ROOM)
        answer = cook.answer("38 knots")
        assert answer["type"] == "groupchat"
        cook.write("at what gust is it pinned?", to=ROOM, reply=answer)
        until(lambda: len(mate.answers("44 knots")) == 2)
        mate.write("@fontanel Who won the regatta of 1911?", to=ROOM)
        mate.answer("do not answer")
    until(lambda: len(list(asked.client.list_channel_messages("Chat", "sent"))) == 3)
    messages = list(asked.client.list_channel_messages("Chat"))
    assert [one.state for one in messages] == ["sent"] * 3
    assert messages[2].sender == "mate@chat.localhost"
    assert messages[1].conversation_id == messages[2].conversation_id
    assert messages[0].conversation_id != messages[2].conversation_id


def test_a_message_that_arrives_twice(asked: TeamSetup, chat: ChatServer) -> None:
    connect(asked, chat, rooms=[])
    with chat.person("mate") as mate:
        mate.write(QUESTION, id="same")
        mate.answer("38 knots")
        mate.write(QUESTION, id="same")
        mate.write("How deep is berth 4?")
        mate.answer("6.8 m")
        assert len(mate.answers("38 knots")) == 1


def test_a_password_that_is_refused(asked: TeamSetup, chat: ChatServer) -> None:
    connect(asked, chat)
    asked.client.change_channel("Chat", s.ChannelChange(credentials={"password": "wrong"}))
    until(lambda: "password" in str(asked.client.show_channel("Chat").failing))
    asked.client.change_channel("Chat", s.ChannelChange(credentials={"password": "tide-table"}))
    until(lambda: asked.client.show_channel("Chat").failing is None)


def test_a_server_that_restarts(asked: TeamSetup, tmp_path: Path) -> None:
    (tmp_path / "chat").mkdir()
    with chat_server(tmp_path / "chat") as chat:
        connect(asked, chat)
    until(lambda: asked.client.show_channel("Chat").failing)
    with running(chat), chat.person("mate") as mate:
        mate.write(QUESTION)
        mate.answer("38 knots")
    until(lambda: [one.state for one in asked.client.list_channel_messages("Chat")] == ["sent"])


@pytest.mark.parametrize("point", ["message_taken", "message_answered"])
def test_killed_between_receipt_and_answer(asked: TeamSetup, chat: ChatServer, point: str) -> None:
    connect(asked, chat)
    service = asked.service
    service.stop()
    service.start(FONTANEL_FAULT=point)
    with chat.person("mate") as mate:
        mate.write(f"Fontanel: {QUESTION}", to=ROOM)
        until(lambda: service.process is not None and service.process.poll() is not None)
        service.start()
        mate.answer("38 knots")
    assert len(list(asked.client.export_answers("harbour-desk"))) == 1


def test_settings_that_cannot_be_used(asked: TeamSetup) -> None:
    settings = {"jid": "ask@chat.localhost"}
    for wrong, field in (
        ({"jid": "chat.localhost"}, "settings.jid"),
        ({**settings, "rooms": ["no room"]}, "settings.rooms"),
        ({**settings, "server": "host:port"}, "settings.server"),
    ):
        with pytest.raises(Invalid) as problem:
            asked.client.create_channel(
                s.ChannelIn(
                    name="Bad",
                    desk="harbour-desk",
                    kind="xmpp",
                    settings=wrong,
                    credentials={"password": "tide-table"},
                )
            )
        assert problem.value.problem.field == field
