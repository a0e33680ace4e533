"""Links by which guests reach a desk: their state, pace, use, and what closes them."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from fontanel import schemas as s
from fontanel.client import (
    Client,
    Conflict,
    Invalid,
    NotAllowed,
    NotFound,
    NotSignedIn,
    ProblemError,
)
from tests import patient
from tests.conftest import new_team, until
from tests.service.desks.conftest import GUEST, QUESTION, Marine


def test_guests_come_by_a_link_and_reach_nothing_else(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    team, result = marine[0], desk(audience="link", greeting="Ahoy.")
    link = team.client.make_desk_link(result.id, "Crew room", per_minute=3)
    assert link.url.endswith(f"/chat/{result.id}#{link.secret}")
    assert link.secret not in str(team.client.list_desk_links(result.id))
    guest = Client(team.service.url, link.secret, team.slug, guest=GUEST)
    assert guest.show_chat_desk(result.id).greeting == "Ahoy."
    assert guest.ask_desk(result.id, "Hello").text == "Ahoy."
    answer = guest.ask_desk(result.id, QUESTION)
    assert answer.citations
    context = guest.citation_context(result.id, answer.turn_id, 1)
    assert context.text[context.quote_start : context.quote_end] == answer.citations[0].quote
    guest.give_feedback(result.id, answer.turn_id, helpful=True)
    assert len(guest.list_conversations(desk=result.id)) == 2
    # Another guest by the same link sees none of it.
    other = Client(team.service.url, link.secret, team.slug, guest="another guest 000000001")
    assert other.list_conversations(desk=result.id) == []
    with pytest.raises(NotFound):
        other.citation_context(result.id, answer.turn_id, 1)
    for reach in (
        guest.list_kbs,
        guest.list_desks,
        guest.session,
        lambda: guest.show_answer(answer.turn_id),
    ):
        with pytest.raises(NotSignedIn):
            reach()
    with pytest.raises(NotAllowed):
        guest.ask_desk(result.id, QUESTION, settings={"evidence_needed": 0})
    guest.ask_desk(result.id, QUESTION)
    with pytest.raises(ProblemError, match="3 questions a minute"):
        guest.ask_desk(result.id, QUESTION)
    with pytest.raises(Invalid):
        Client(team.service.url, link.secret, team.slug).list_conversations(desk=result.id)
    team.client.revoke_desk_link(result.id, link.id)
    with pytest.raises(NotSignedIn):
        guest.list_conversations(desk=result.id)


def test_a_link_opens_only_its_own_desk_and_only_while_that_is_meant(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    team, open_desk, closed = marine[0], desk(audience="link"), desk()
    link = team.client.make_desk_link(open_desk.id, "Open")
    guest = Client(team.service.url, link.secret, team.slug, guest=GUEST)
    with pytest.raises(NotSignedIn):
        guest.show_chat_desk(closed.id)
    elsewhere = new_team(team.service)
    with pytest.raises(NotSignedIn):
        Client(team.service.url, link.secret, elsewhere.slug, guest=GUEST).list_conversations(
            desk=open_desk.id
        )
    with pytest.raises(NotFound):
        elsewhere.client.show_chat_desk(open_desk.id)
    shut = team.client.make_desk_link(closed.id, "Shut")
    with pytest.raises(NotSignedIn):
        Client(team.service.url, shut.secret, team.slug, guest=GUEST).show_chat_desk(closed.id)


def test_a_link_says_whether_it_works_and_why_not(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    client = marine[0].client
    unpublished = desk(publish=False, audience="link")
    assert client.make_desk_link(unpublished.id, "Early").state == "not_published"
    members = desk()
    assert client.make_desk_link(members.id, "Crew").state == "members_only"
    opened = client.change_desk(members.id, {"audience": "link"}, version=members.version)
    client.publish_desk(members.id)
    assert opened.changed
    assert [link.state for link in client.list_desk_links(members.id)] == ["open"]
    client.revoke_desk_link(members.id, "Crew")
    assert [link.state for link in client.list_desk_links(members.id)] == ["revoked"]


def test_publishing_for_members_asks_before_it_closes_links(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    client = marine[0].client
    made = desk()
    opened = client.change_desk(made.id, {"audience": "link"}, version=made.version)
    client.publish_desk(made.id)
    link = client.make_desk_link(made.id, "Crew room")
    with pytest.raises(Conflict, match="Crew room") as refused:
        client.activate_desk_version(made.id, 1)
    assert refused.value.problem.field == "close_links"
    members = {"audience": "members", "purpose": "For the crew."}
    client.change_desk(made.id, members, version=opened.version + 1)
    with pytest.raises(Conflict, match="Crew room"):
        client.publish_desk(made.id)
    assert [row.state for row in client.list_desk_links(made.id)] == ["open"]
    assert client.activate_desk_version(made.id, 1, close_links=True).published
    assert [row.state for row in client.list_desk_links(made.id)] == ["members_only"]
    # Now that no link works, nothing is asked.
    assert client.publish_desk(made.id, close_links=False).number == 3
    guest = Client(marine[0].service.url, link.secret, marine[0].slug, guest=GUEST)
    with pytest.raises(NotSignedIn, match="no longer valid"):
        guest.show_chat_desk(made.id)


def test_editors_learn_why_a_link_does_not_work(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    team, closed = marine[0], desk()
    link = team.client.make_desk_link(closed.id, "Crew")
    headers = {"Authorization": f"Bearer {link.secret}", "X-Fontanel-Guest": GUEST}
    with patient.Client(base_url=f"{team.service.url}/api/v1", headers=headers) as browser:
        as_guest = browser.get(f"/chat/{closed.id}").json()
        signed_in = browser.post(
            "/session",
            json={"email": team.email, "password": team.password},
            headers={"X-Fontanel-Console": "1", "Authorization": ""},
        )
        assert signed_in.is_success
        as_editor = browser.get(f"/chat/{closed.id}").json()
    assert "members only" not in as_guest["detail"]
    assert "for members only" in as_editor["detail"]


def test_a_guest_s_use_of_a_link_is_recorded(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    team, opened = marine[0], desk(audience="link")
    link = team.client.make_desk_link(opened.id, "Crew")
    assert link.last_used_at is None
    guest = Client(team.service.url, link.secret, team.slug, guest=GUEST)
    guest.show_chat_desk(opened.id)
    until(lambda: team.client.list_desk_links(opened.id)[0].last_used_at)


def test_posing_as_several_guests_does_not_raise_the_pace(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    team, opened = marine[0], desk(audience="link")
    link = team.client.make_desk_link(opened.id, "Crew", per_minute=3)
    answers, refusals = [], []
    for number in range(12):
        guest = Client(team.service.url, link.secret, team.slug, guest=f"{GUEST}{number:04}")
        try:
            answers.append(guest.ask_desk(opened.id, QUESTION))
        except ProblemError as refused:
            refusals.append(refused.problem.status)
    assert (len(answers), refusals) == (3, [429] * 9)
    rows = team.client.usage("member", desk=opened.id).rows
    assert [(row.name, row.questions) for row in rows] == [("guests of Crew", 3)]
