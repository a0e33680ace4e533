"""Limited keys, and the scope of an Idempotency-Key."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from fontanel import schemas as s
from fontanel.client import Client, Conflict, NotAllowed, NotFound
from tests.conftest import STORM, TeamSetup

QUESTION = "At what gust does the quay crane stop?"
WAGES = b"# Wages\n\nThe quay crane driver earns 4,711 a month."


@pytest.fixture
def desk(team: TeamSetup) -> tuple[Client, str, str]:
    """A limited key, and a desk whose first version used a base outside its limits."""
    client = team.client
    mine, other = client.create_kb("Mine"), client.create_kb("Wages")
    client.add_document(mine.slug, STORM, "storm.md", wait=True)
    client.add_document(other.slug, WAGES, "wages.md", wait=True)
    desk = client.create_desk("Desk", s.DeskSettings(kbs=[s.DeskKb(kb=other.id)], audience="link"))
    client.publish_desk(desk.id)
    client.ask_desk(desk.id, "What does the quay crane driver earn?")
    version = client.show_desk(desk.id).version
    client.change_desk(desk.id, {"kbs": [{"kb": mine.id}]}, version=version)
    client.publish_desk(desk.id)
    client.ask_desk(desk.id, QUESTION)
    key = client.make_key("narrow", "editor", [mine.slug])
    return Client(team.service.url, key.secret, team.slug), desk.id, other.id


def test_an_earlier_version_is_out_of_a_narrow_key_s_reach(desk: tuple[Client, str, str]) -> None:
    narrow, desk_id, other = desk
    assert [version.number for version in narrow.list_desk_versions(desk_id)] == [2]
    calls: list[Callable[[], Any]] = [
        lambda: narrow.activate_desk_version(desk_id, 1),
        lambda: narrow.ask_desk(desk_id, QUESTION, version=1),
        lambda: narrow.compare_desk_versions(desk_id, 1, 2),
    ]
    for call in calls:
        with pytest.raises(NotFound):
            call()
    with pytest.raises(NotAllowed):
        narrow.delete_desk(desk_id)
    answers = narrow.list_desk_answers(desk_id)
    assert [answer.question for answer in answers] == [QUESTION]
    assert other not in narrow.show_desk(desk_id).model_dump_json()


def test_a_desk_whose_published_version_uses_another_is_not_there(
    desk: tuple[Client, str, str], team: TeamSetup
) -> None:
    narrow, desk_id, _ = desk
    team.client.activate_desk_version(desk_id, 1)
    for call in (
        narrow.show_desk,
        narrow.list_desk_answers,
        narrow.publish_desk,
        narrow.delete_desk,
    ):
        with pytest.raises(NotFound):
            call(desk_id)
    with pytest.raises(NotFound):
        narrow.make_desk_link(desk_id, "A way in")
    assert narrow.list_desks() == []


def test_an_idempotency_key_stands_for_the_whole_request(team: TeamSetup, storm: str) -> None:
    client = team.client
    other = client.create_kb("Other").slug
    first = client.ask(storm, QUESTION, idempotency_key="k")
    assert client.ask(storm, QUESTION, idempotency_key="k").turn_id == first.turn_id
    with pytest.raises(Conflict, match="Idempotency-Key"):
        client.ask(other, QUESTION, idempotency_key="k")
    with pytest.raises(Conflict, match="Idempotency-Key"):
        client.ask(storm, QUESTION, tags={"year": "2024"}, idempotency_key="k")
    desk = client.create_desk("Desk", s.DeskSettings(kbs=[s.DeskKb(kb=storm)]))
    client.publish_desk(desk.id)
    with pytest.raises(Conflict, match="Idempotency-Key"):
        client.ask_desk(desk.id, QUESTION, idempotency_key="k")
