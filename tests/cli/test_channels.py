"""`fontanel channel`, with the simulated chat room at the other side."""

from __future__ import annotations

import json
from collections.abc import Iterator

import pytest

from fontanel.simulators.chat import chat_app
from tests import patient
from tests.channels.conftest import FOLLOW_UP, QUESTION, open_desk, reaching
from tests.cli.conftest import Run
from tests.conftest import Service, TeamSetup, free_port, new_team, until
from tests.servers import served_on

__all__ = ["reaching"]
SECRET = "a secret of the chat room"


@pytest.fixture
def team(reaching: Service) -> TeamSetup:
    team = new_team(reaching)
    open_desk(team)
    return team


@pytest.fixture
def room() -> Iterator[str]:
    with served_on(chat_app(SECRET), free_port()) as address:
        yield address.removesuffix("/v1")


def test_a_channel_from_end_to_end(run: Run, room: str) -> None:
    kinds = run("channel", "kinds")
    assert "Reply address" in kinds.stdout or "Where replies are posted" in kinds.stdout
    assert run("channel", "list").stdout.startswith("No channels. Add one with")
    wrong = run("channel", "add", "X", "--desk", "harbour-desk", "--kind", "pigeon")
    assert wrong.returncode == 2
    assert "webhook" in wrong.stderr

    added = run(
        "channel", "add", "Bridge", "--desk", "harbour-desk", "--kind", "webhook",
        "--set", f"url={room}/replies", "--credential", f"secret={SECRET}",
    )  # fmt: skip
    assert added.returncode == 0, added.stderr
    address = added.stdout.split("Post messages to ")[1].split()[0]
    assert "shown once" not in added.stdout
    patient.post(f"{room}/connect", json={"channel": address})
    first = patient.post(f"{room}/messages", json={"text": QUESTION}).json()

    def replies() -> list[dict[str, object]]:
        return [one for one in patient.get(f"{room}/messages").json() if one["bot"]]

    until(replies)
    assert "38 knots" in str(replies()[0]["text"])
    patient.post(f"{room}/messages", json={"text": FOLLOW_UP, "thread": first["thread"]})
    until(lambda: len(replies()) == 2)
    patient.post(f"{room}/messages/{first['id']}/edit", json={"text": "How long is berth 4?"})
    until(lambda: "120 m" in str(replies()[0]["text"]))
    patient.post(f"{room}/messages/{replies()[0]['id']}/react", json={"reaction": "Helpful"})

    until(lambda: "noted" in run("channel", "messages", "Bridge").stdout)
    listed = json.loads(run("channel", "messages", "Bridge", "--state", "sent", "--json").stdout)
    shown = run("channel", "message", "Bridge", listed[-1]["id"])
    assert QUESTION in shown.stdout
    assert "[1] Storm plan" in shown.stdout
    assert "works" in run("channel", "list", "--desk", "harbour-desk").stdout

    assert run("channel", "test", "Bridge", "--room", "deck").stdout == "The message was sent.\n"
    renewed = run("channel", "change", "Bridge", "--new-secret", "--set", "max_words=40")
    assert "whsec_" in renewed.stdout
    refused = run("channel", "test", "Bridge")
    assert refused.returncode == 0 or "401" in refused.stdout
    assert run("channel", "change", "Bridge").returncode == 2
    assert run("channel", "change", "Bridge", "--pause").returncode == 0
    assert "paused" in run("channel", "show", "Bridge").stdout
    assert run("channel", "test", "Bridge").returncode != 0
    assert run("channel", "delete", "Bridge").returncode != 0
    assert run("channel", "delete", "Bridge", "--yes").returncode == 0
    assert run("channel", "show", "Bridge").returncode == 3
