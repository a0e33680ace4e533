"""Answers that somebody follows: notices when what they cite changes."""

from __future__ import annotations

from collections.abc import Iterator
from email.message import EmailMessage
from pathlib import Path

import feedparser
import pytest
from aiosmtpd.controller import Controller

from fontanel import schemas as s
from fontanel.client import Client, Conflict, Invalid, NotFound
from tests import patient
from tests.channels.conftest import open_desk
from tests.channels.test_webhook import Receiver, open_room
from tests.conftest import STORM, Service, TeamSetup, free_port, new_team, until

__all__ = ["Receiver"]
QUESTION = "At what gust does the quay crane stop?"
UNKNOWN = "When does the canteen open?"
DESK = "harbour-desk"


class Mails:
    """A mail server that collects messages; the first is refused for now."""

    def __init__(self) -> None:
        self.received: list[EmailMessage] = []

    async def handle_DATA(self, server: object, session: object, envelope: object) -> str:  # noqa: N802 - aiosmtpd calls it
        from email import message_from_bytes, policy

        message = message_from_bytes(envelope.content, policy=policy.default)  # type: ignore[attr-defined]
        assert isinstance(message, EmailMessage)
        self.received.append(message)
        return "250 OK"


@pytest.fixture
def mails() -> Iterator[tuple[Mails, int]]:
    handler, port = Mails(), free_port()
    controller = Controller(handler, hostname="127.0.0.1", port=port)
    controller.start()
    yield handler, port
    controller.stop()


@pytest.fixture
def team(tmp_path: Path, mails: tuple[Mails, int]) -> Iterator[TeamSetup]:
    service = Service(tmp_path / "data", {"FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8"}).start()
    made = new_team(service)
    open_desk(made)
    # Only now: invitations would be sent by it as well.
    service.stop()
    service.environment["FONTANEL_SMTP_URL"] = f"smtp://127.0.0.1:{mails[1]}"
    service.start()
    yield made
    service.stop()


def replaced(team: TeamSetup, old: str, new: str) -> None:
    """Replace the storm plan by one with another text."""
    text = STORM.decode().replace(old, new)
    assert text != STORM.decode()
    team.client.add_document("rules", text.encode(), "storm.md", wait=True)


def test_an_answer_that_changes(team: TeamSetup, mails: tuple[Mails, int]) -> None:
    with Client(team.service.url, team=team.slug) as person:
        person.sign_in(team.email, team.password)
        answer = person.ask_desk(DESK, QUESTION)
        followed = person.follow_answer(DESK, answer.turn_id, email=True)
        assert followed.changes == []
        # What the answer does not cite may change without a notice.
        replaced(team, "6.8 m", "7.1 m")
        replaced(team, "38 knots", "35 knots")
        until(lambda: person.list_followed(DESK)[0].changes)
        (seen,) = person.list_followed(DESK)
        (change,) = seen.changes
        assert "38 knots" in change.before
        assert "35 knots" in change.after == seen.answer
        until(lambda: mails[0].received)
        (mail,) = mails[0].received
        assert mail["To"] == team.email
        assert "35 knots" in mail.get_content()

        feed = feedparser.parse(patient.get(followed.feed).text)
        assert [entry.title for entry in feed.entries] == ["The answer has changed", "The answer"]
        assert "35 knots" in feed.entries[0].content[0].value
        tag = patient.get(followed.feed).headers["etag"]
        assert patient.get(followed.feed, headers={"If-None-Match": tag}).status_code == 304
        renewed = person.follow_answer(DESK, answer.turn_id)
        assert patient.get(followed.feed).status_code == 404
        person.unfollow(DESK, answer.turn_id)
        assert patient.get(renewed.feed).status_code == 404
        with pytest.raises(NotFound):
            person.unfollow(DESK, answer.turn_id)
    assert len(mails[0].received) == 1


def test_a_question_that_is_answered_later(team: TeamSetup) -> None:
    link = team.client.make_desk_link(DESK, "Guests").secret
    with Client(team.service.url, link, team.slug, guest="a guest's own secret") as guest:
        declined = guest.ask_desk(DESK, UNKNOWN)
        assert declined.outcome == "declined"
        with pytest.raises(Invalid):
            guest.follow_answer(DESK, declined.turn_id, email=True)
        guest.follow_answer(DESK, declined.turn_id)
        small_talk = guest.ask_desk(DESK, "Hello!")
        with pytest.raises(Conflict):
            guest.follow_answer(DESK, small_talk.turn_id)
        with pytest.raises(NotFound):
            team.client.follow_answer(DESK, declined.turn_id)
        text = b"# Canteen\n\nThe canteen opens at six in the morning.\n"
        team.client.add_document("rules", text, "canteen.md", wait=True)
        until(lambda: guest.list_followed(DESK)[0].changes)
        assert "opens at six" in guest.list_followed(DESK)[0].answer


def test_notices_in_a_channel_survive_a_restart(team: TeamSetup, receiver: Receiver) -> None:
    room = open_room(team, receiver)
    room.post(text="follow", thread="t")
    assert "Ask a question first" in room.reply_to("m-1")["text"]
    room.post(text=QUESTION, thread="t", room="bridge")
    room.reply_to("m-2")
    room.post(text="Tell me when this changes.", thread="t", room="bridge")
    assert "notified here" in room.reply_to("m-3")["text"]
    replaced(team, "38 knots", "35 knots")
    team.service.kill()
    team.service.start()
    until(lambda: [one for one in room.replies() if "You follow" in one["text"]])
    (notice,) = [one for one in room.replies() if "You follow" in one["text"]]
    assert "35 knots" in notice["text"]
    assert (notice["thread"], notice["room"]) == ("t", "bridge")
    room.post(text="stop", thread="t", room="bridge")
    assert "no longer" in room.reply_to("m-4")["text"]
    room.post(text="stop", thread="t", room="bridge")
    assert "follow no answer" in room.reply_to("m-5")["text"]


def test_an_answer_of_a_model(team: TeamSetup, model_server: str) -> None:
    with team.service.operator() as operator:
        operator.create_model(s.ModelIn(name="writer", url=model_server, remote="honest"))
    desk = team.client.show_desk(DESK)
    team.client.change_desk(DESK, {"model": "writer"}, version=desk.version)
    team.client.publish_desk(DESK)
    answer = team.client.ask_desk(DESK, QUESTION)
    assert answer.composer == "writer"
    team.client.follow_answer(DESK, answer.turn_id)
    replaced(team, "6.8 m", "7.1 m")
    replaced(team, "38 knots", "35 knots")
    until(lambda: team.client.list_followed(DESK)[0].changes)
    (seen,) = team.client.list_followed(DESK)
    assert len(seen.changes) == 1
    assert "35 knots" in seen.answer
