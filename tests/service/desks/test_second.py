"""Two published versions of a desk: shared by asker, compared, promoted."""

from __future__ import annotations

import pytest

from fontanel import schemas as s
from fontanel.client import Client, NotFound, ProblemError
from tests.conftest import TeamSetup

CRANE = "At what gust does the quay crane stop?"


@pytest.fixture
def desk(team: TeamSetup, storm: str) -> str:
    """A desk with two versions, of which the second one is published."""
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=storm)], audience="link")
    slug = team.client.create_desk("Crews", settings).slug
    team.client.publish_desk(slug)
    for change in ({"length": "short"}, {"audience": "members"}):
        team.client.change_desk(slug, change, version=team.client.show_desk(slug).version)
        team.client.publish_desk(slug, close_links=True)
    team.client.activate_desk_version(slug, 1)
    return slug


def test_each_asker_keeps_a_version(team: TeamSetup, desk: str) -> None:
    client = team.client
    changed = client.set_second_version(desk, 2, 50)
    assert (changed.second_version, changed.second_share) == (2, 50)
    versions: dict[str, set[int | None]] = {}
    for number in range(12):
        key = client.make_key(f"asker {number}", "reader")
        with Client(team.service.url, key.secret, team.slug) as asker:
            for _ in range(2):
                answer = asker.ask_desk(desk, CRANE)
                version = client.show_answer(answer.turn_id).desk_version
                versions.setdefault(key.id, set()).add(version)
            asker.give_feedback(desk, answer.turn_id, helpful=True)
    assert all(len(own) == 1 for own in versions.values())
    assert {version for own in versions.values() for version in own} == {1, 2}
    both = client.show_second_version(desk)
    assert both.first.askers + both.second.askers == 12
    assert both.first.questions + both.second.questions == 24
    assert both.first.helpful.count == both.first.askers
    assert both.second.seconds is not None
    assert both.second.seconds.low <= both.second.seconds.value <= both.second.seconds.high
    promoted = client.promote_second_version(desk)
    assert promoted.published is not None
    assert (promoted.published.number, promoted.second_version) == (2, None)
    with pytest.raises(NotFound):
        client.show_second_version(desk)


def test_guests_get_no_version_for_members(team: TeamSetup, desk: str) -> None:
    client = team.client
    link = client.make_desk_link(desk, "Guests")
    client.set_second_version(desk, 3, 99)
    with Client(
        team.service.url, link.secret, team.slug, guest="a guest's own secret 0001"
    ) as guest:
        answer = guest.ask_desk(client.show_desk(desk).id, CRANE)
    assert client.show_answer(answer.turn_id).desk_version == 1


def test_what_cannot_be_a_second_version(team: TeamSetup, desk: str, storm: str) -> None:
    client = team.client
    for version, message in ((1, "is the published one"), (9, "There is no version")):
        with pytest.raises(ProblemError, match=message):
            client.set_second_version(desk, version, 20)
    client.set_second_version(desk, 2, 20)
    client.activate_desk_version(desk, 2)
    assert client.show_desk(desk).second_version is None
    client.set_second_version(desk, 1, 20)
    assert client.end_second_version(desk).second_version is None
    unpublished = client.create_desk("Draft", s.DeskSettings(kbs=[s.DeskKb(kb=storm)])).slug
    with pytest.raises(ProblemError):
        client.set_second_version(unpublished, 1, 20)
