"""The signed webhook: questions that are posted, and answers that are posted back."""

from __future__ import annotations

import hashlib
import hmac
import json
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, datetime
from itertools import count
from typing import Any

import httpx
import pytest
from standardwebhooks import Webhook

from fontanel import schemas as s
from fontanel.client import Invalid
from tests import patient
from tests.channels.conftest import FOLLOW_UP, QUESTION, UNKNOWN
from tests.conftest import Service, TeamSetup, until

Received = list[tuple[dict[str, str], bytes]]
Receiver = tuple[str, Received, list[int]]


@dataclass
class Room:
    """The other side: it posts messages, and reads the replies that were posted to it."""

    address: str
    secret: str
    received: Received
    numbers: Iterator[int] = field(default_factory=lambda: count(1))

    def post(self, at: datetime | None = None, **message: Any) -> dict[str, Any]:
        """Post a message, which has a new id unless one is named; return the response."""
        number = next(self.numbers)
        body = json.dumps({"id": f"m-{number}", "sender": "mate@skerrow.example", **message})
        moment = at or datetime.now(UTC)
        headers = {
            "webhook-id": f"w-{number}",
            "webhook-timestamp": str(int(moment.timestamp())),
            "webhook-signature": Webhook(self.secret).sign(f"w-{number}", moment, body),
            "content-type": "application/json",
        }
        response = patient.post(self.address, content=body, headers=headers)
        return {"status": response.status_code, **response.json()}

    def replies(self) -> list[dict[str, Any]]:
        """Return the replies, whose signatures are verified."""
        bodies = []
        for headers, body in self.received:
            Webhook(self.secret).verify(body, headers)
            bodies.append(json.loads(body))
        return bodies

    def reply_to(self, message_id: str) -> dict[str, Any]:
        """Wait for the reply to a message, which is the only one."""
        mine: Callable[[], list[dict[str, Any]]] = lambda: [  # noqa: E731
            one for one in self.replies() if one.get("in_reply_to") == message_id
        ]
        until(mine)
        (reply,) = mine()
        return reply


def open_room(team: TeamSetup, receiver: Receiver, **settings: Any) -> Room:
    url, received, _ = receiver
    channel = team.client.create_channel(
        s.ChannelIn(
            name="Bridge",
            desk="harbour-desk",
            kind="webhook",
            settings={"url": url, **settings},
        )
    )
    assert channel.address is not None
    assert channel.secret is not None
    return Room(channel.address, channel.secret, received)


@pytest.fixture
def room(asked: TeamSetup, receiver: Receiver) -> Room:
    return open_room(asked, receiver, hand_over_to="#watch")


def test_a_thread_of_questions(asked: TeamSetup, room: Room) -> None:
    taken = room.post(text=QUESTION, thread="t-1", room="bridge")
    assert taken == {"status": 202, "state": "taken", "reason": ""}
    first = room.reply_to("m-1")
    assert "38 knots" in first["text"]
    assert (first["room"], first["thread"]) == ("bridge", "t-1")
    (source,) = first["sources"]
    assert source["title"] == "Storm plan"
    assert "[1]" in first["text"]
    assert source["url"].startswith(asked.service.url)

    room.post(text=FOLLOW_UP, thread="t-1", room="bridge", sender="cook@skerrow.example")
    assert "44 knots" in room.reply_to("m-2")["text"]
    room.post(text=UNKNOWN, thread="t-2", room="bridge")
    declined = room.reply_to("m-3")
    assert "sources" not in declined
    assert "person" in declined["text"]

    until(lambda: len(list(asked.client.list_channel_messages("Bridge", "sent"))) == 3)
    messages = list(asked.client.list_channel_messages("Bridge"))
    assert [one.state for one in messages] == ["sent", "sent", "sent"]
    assert messages[1].conversation_id == messages[2].conversation_id
    assert messages[0].conversation_id != messages[1].conversation_id
    shown = asked.client.show_channel("Bridge")
    assert (shown.waiting, shown.failed, shown.failing) == (0, 0, None)
    assert shown.connected_at is not None


def test_repeated_messages_are_answered_once(asked: TeamSetup, room: Room) -> None:
    assert room.post(id="same", text=QUESTION)["state"] == "taken"
    assert room.post(id="same", text=QUESTION)["state"] == "known"
    room.reply_to("same")
    assert room.post(id="same", text=QUESTION)["state"] == "known"
    room.post(id="next", text=FOLLOW_UP)
    room.reply_to("next")
    assert len(room.replies()) == 2


def test_messages_that_are_not_answered(asked: TeamSetup, room: Room) -> None:
    assert room.post(text=QUESTION, bot=True)["reason"] == "A program wrote it."
    assert room.post(text="   ")["reason"] == "It has no text."
    assert room.post(text="Helpful!")["state"] == "ignored"
    assert room.post(reaction="🎉", about="x")["state"] == "ignored"
    old = datetime.fromtimestamp(time.time() - 3600, UTC)
    assert room.post(at=old, text=QUESTION)["status"] == 401
    other = Room(room.address, "whsec_" + "QUFB" * 8, [])
    assert other.post(text=QUESTION)["status"] == 401
    unknown = Room(room.address.replace("/chan_", "/chan_x"), room.secret, [])
    assert unknown.post(text=QUESTION)["type"] == other.post(text=QUESTION)["type"]
    assert room.post(id=None, text=QUESTION)["status"] == 422
    assert room.post(id={"a": 1}, text=QUESTION)["field"] == "body"
    half: dict[str, Any] = {"id": "half \ud800"}
    long: dict[str, Any] = {"id": "long" * 1000, "sender": "\udfff" * 2000}
    for strange in (half, long):
        assert room.post(text=" \0", **strange)["status"] in (202, 422)
    assert {one.state for one in asked.client.list_channel_messages("Bridge")} == {"ignored"}
    assert room.replies() == []


def test_who_may_ask(asked: TeamSetup, receiver: Receiver) -> None:
    room = open_room(asked, receiver, allowed=["*@skerrow.example", "open room"], per_minute=2)
    ask: Callable[..., Any] = lambda **more: room.post(text=QUESTION, **more)["state"]  # noqa: E731
    assert ask(sender="stranger@elsewhere.example") == "ignored"
    assert ask(sender="stranger@elsewhere.example", room="Open Room") == "taken"
    assert ask(sender=asked.email) == "taken"
    assert [ask(), ask(), ask()] == ["taken", "taken", "ignored"]
    asked.client.change_channel("Bridge", s.ChannelChange(paused=True))
    assert room.post(text=QUESTION, sender="b@skerrow.example")["status"] == 409


def test_opinions_and_persons(asked: TeamSetup, room: Room) -> None:
    room.post(text=UNKNOWN, thread="t")
    reply = room.reply_to("m-1")
    room.post(reaction="👎", about=reply["id"], thread="t")
    until(asked.client.list_feedback)
    (feedback,) = asked.client.list_feedback()
    assert feedback.helpful is False
    room.post(text="yes", thread="t")
    until(lambda: asked.client.list_feedback(helpful=True))
    assert asked.client.list_feedback() == []

    room.post(text="Person!", thread="t", sender_name="Mate")
    assert "passed on" in room.reply_to("m-4")["text"]
    until(lambda: [one for one in room.replies() if one.get("room") == "#watch"])
    note = next(one for one in room.replies() if one.get("room") == "#watch")
    assert UNKNOWN in note["text"]
    turn = next(asked.client.list_channel_messages("Bridge", "noted")).turn_id
    assert f"{asked.service.url}/t/{asked.slug}/answers/{turn}" in note["text"]


def test_corrected_questions(asked: TeamSetup, room: Room) -> None:
    room.post(text="At what gust is the quay crane pinned?")
    wrong = room.reply_to("m-1")
    room.post(text=QUESTION, corrects="m-1")
    right = room.reply_to("m-2")
    assert right["replaces"] == wrong["id"]
    assert "38 knots" in right["text"]


def test_other_fields_and_an_hmac(asked: TeamSetup, receiver: Receiver) -> None:
    url, received, _ = receiver
    channel = asked.client.create_channel(
        s.ChannelIn(
            name="Elsewhere",
            desk="harbour-desk",
            kind="webhook",
            settings={
                "url": url,
                "id_path": "event.items.0.key",
                "text_path": "event.items.0.body",
                "sender_path": "event.by",
                "signature": "hmac",
                "signature_header": "X-Chat-Digest",
                "signature_prefix": "v1=",
                "timestamp_header": "X-Chat-Time",
                "signed_content": "{timestamp}.{body}",
                "max_words": 20,
                "reply_fields": [
                    "kind='answer'",
                    "message.body=markdown",
                    "message.to=in_reply_to",
                ],
            },
            credentials={"secret": "a long shared secret"},
        )
    )
    assert channel.secret is None
    body = json.dumps({"event": {"items": [{"key": 7, "body": QUESTION}], "by": "mate"}})

    def post(moment: float, secret: str = "a long shared secret") -> int:
        stamp = str(int(moment))
        digest = hmac.new(secret.encode(), f"{stamp}.{body}".encode(), hashlib.sha256).hexdigest()
        headers = {"X-Chat-Digest": f"v1={digest}", "X-Chat-Time": stamp}
        return patient.post(channel.address or "", content=body, headers=headers).status_code

    assert post(time.time() - 600) == 401
    assert post(time.time(), "another secret") == 401
    assert post(time.time()) == 202
    until(lambda: received)
    reply = json.loads(received[0][1])
    assert reply["kind"] == "answer"
    assert reply["message"]["to"] == "7"
    assert "38 knots" in reply["message"]["body"]


def test_the_other_side_is_away_for_a_while(asked: TeamSetup, receiver: Receiver) -> None:
    room = open_room(asked, receiver)
    receiver[2].extend([503, 500])
    room.post(text=QUESTION)
    until(lambda: len(room.received) == 3)
    assert len({headers["webhook-id"] for headers, _ in room.received}) == 1
    until(lambda: next(asked.client.list_channel_messages("Bridge")).state == "sent")
    receiver[2].append(410)
    failed = asked.client.test_channel("Bridge", "bridge")
    assert failed.state == "failed"
    assert "410" in failed.reason
    assert asked.client.show_channel("Bridge").failing is not None
    assert [one.kind for one in asked.client.list_notices().items] == ["channel.failing"]
    asked.client.retry_channel_message("Bridge", failed.id)
    until(lambda: asked.client.show_channel_message("Bridge", failed.id).state == "sent")
    assert asked.client.show_channel("Bridge").failing is None


@pytest.mark.parametrize("point", ["message_taken", "message_answered", "reply_sent"])
def test_killed_between_acknowledgement_and_reply(
    asked: TeamSetup, receiver: Receiver, point: str
) -> None:
    service: Service = asked.service
    room = open_room(asked, receiver)
    service.stop()
    service.start(FONTANEL_FAULT=point)
    try:
        room.post(text=QUESTION)
    except httpx.HTTPError:
        assert point == "message_taken"
    until(lambda: service.process is not None and service.process.poll() is not None)
    service.start()
    until(lambda: next(asked.client.list_channel_messages("Bridge")).state == "sent")
    replies = room.replies()
    assert "38 knots" in replies[0]["text"]
    # A reply that was under way at the kill is posted again under the same id.
    assert len({one["id"] for one in replies}) == 1
    assert len(replies) == (2 if point == "reply_sent" else 1)
    assert len(list(asked.client.export_answers("harbour-desk"))) == 1


def test_two_hundred_at_once(asked: TeamSetup, room: Room) -> None:
    def post(number: int) -> str:
        state: str = room.post(
            id=f"n-{number}",
            text=QUESTION,
            sender=f"{number}@skerrow.example",
            thread=f"t-{number}",
        )["state"]
        return state

    with ThreadPoolExecutor(32) as pool:
        states = list(pool.map(post, [number % 200 for number in range(240)]))
    assert (states.count("taken"), states.count("known")) == (200, 40)
    until(lambda: asked.client.show_channel("Bridge").waiting == 0, seconds=240)
    answered = [one["in_reply_to"] for one in room.replies()]
    assert len(answered) == len(set(answered)) == 200


def test_settings_that_cannot_be_used(asked: TeamSetup) -> None:
    def refused(settings: dict[str, Any], **more: Any) -> str | None:
        with pytest.raises(Invalid) as problem:
            asked.client.create_channel(
                s.ChannelIn(
                    name="Bad",
                    desk="harbour-desk",
                    settings=settings,
                    **{"kind": "webhook", **more},
                )
            )
        return problem.value.problem.field

    url = "https://chat.skerrow.example/hook"
    assert refused({}, kind="pigeon") == "kind"
    assert refused({}) == "settings.url"
    assert refused({"url": "ftp://x"}) == "settings.url"
    assert refused({"url": url, "max_words": 3}) == "settings.max_words"
    assert refused({"url": url, "signed_content": "none"}) == "settings.signed_content"
    assert refused({"url": url, "reply_fields": ["a=b"]}) == "settings.reply_fields"
    assert refused({"url": url}, credentials={"secret": "short"}) == "credentials.secret"
    channel = asked.client.create_channel(
        s.ChannelIn(name="Good", desk="harbour-desk", kind="webhook", settings={"url": url})
    )
    with pytest.raises(Invalid) as problem:
        asked.client.change_channel(
            channel.id, s.ChannelChange(settings={"url": "https://elsewhere.example/hook"})
        )
    assert problem.value.problem.field == "credentials"
    renewed = asked.client.change_channel("Good", s.ChannelChange(credentials={}))
    assert renewed.secret not in (None, channel.secret)
    asked.client.delete_channel("Good")
    assert asked.client.list_channels() == []
