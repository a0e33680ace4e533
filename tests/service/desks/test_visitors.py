"""Visitors of a desk whose identity another site signs."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import jwt
import pytest

from fontanel import schemas as s
from fontanel.client import Client, NotSignedIn
from tests.conftest import STORM, TeamSetup

QUESTION = "At what gust does the quay crane stop?"
Sign = Callable[..., str]


@pytest.fixture
def link(team: TeamSetup) -> str:
    kb = team.client.create_kb("Rules").slug
    team.client.add_document(kb, STORM, "storm.md", wait=True)
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=kb)], audience="link", signed_visitors=True)
    team.client.publish_desk(team.client.create_desk("Desk", settings).slug)
    return team.client.make_desk_link("desk", "Intranet").secret


@pytest.fixture
def sign(team: TeamSetup, link: str) -> Sign:
    made = team.client.make_visitor_key("desk")
    assert team.client.show_desk("desk").visitor_key

    def token(sub: Any = "mate", key: str = made.key, **claims: Any) -> str:
        moment = int(time.time())
        standard = {"sub": sub, "aud": made.audience, "iat": moment, "exp": moment + 600}
        values = {name: one for name, one in {**standard, **claims}.items() if one is not None}
        return jwt.encode(values, key, algorithm="HS256")

    return token


def guest(
    team: TeamSetup, link: str, token: str = "", secret: str = "a guest's own secret"
) -> Client:
    headers = {"X-Fontanel-Visitor": token} if token else {}
    return Client(team.service.url, link, team.slug, guest=secret, headers=headers)


def test_a_visitor_has_the_same_conversations_everywhere(
    team: TeamSetup, link: str, sign: Sign
) -> None:
    with guest(team, link, sign()) as here:
        answer = here.ask_desk("desk", QUESTION)
        assert "38 knots" in answer.text
    with guest(team, link, sign(), "a secret of another browser") as there:
        (seen,) = there.list_conversations(desk="desk")
        assert seen.id == answer.conversation_id
    with guest(team, link, sign("cook")) as other:
        assert other.list_conversations(desk="desk") == []


def test_only_signed_visitors_are_let_in(team: TeamSetup, link: str, sign: Sign) -> None:
    now = int(time.time())
    wrong = {
        "": "only open to visitors of the site",
        "no token": "not signed",
        sign(key="x" * 40): "not signed",
        sign(exp=now - 3600, iat=now - 7200): "has expired",
        sign(exp=now + 7 * 24 * 3600): "more than a day",
        sign(exp=None): "no exp",
        sign(sub=None): "no sub",
        sign(sub=""): "1 to 200 characters",
        sign(sub="x" * 201): "1 to 200 characters",
        sign(aud="desk_other"): "aud is not",
        jwt.encode({"sub": "mate", "exp": now + 60}, "", algorithm="none"): "not signed",
        "x" * 5000: "too long",
    }
    for token, reason in wrong.items():
        with guest(team, link, token) as stranger, pytest.raises(NotSignedIn) as problem:
            stranger.ask_desk("desk", QUESTION)
        assert reason in str(problem.value), token[:60]
    good = sign()
    team.client.delete_visitor_key("desk")
    with guest(team, link, good) as late, pytest.raises(NotSignedIn, match="no key"):
        late.ask_desk("desk", QUESTION)


def test_without_the_setting_a_token_is_optional(team: TeamSetup, link: str, sign: Sign) -> None:
    desk = team.client.show_desk("desk")
    team.client.change_desk("desk", {"signed_visitors": False}, version=desk.version)
    team.client.publish_desk("desk")
    with guest(team, link) as anybody:
        assert anybody.list_conversations(desk="desk") == []
    with guest(team, link, sign(key="x" * 40)) as forged, pytest.raises(NotSignedIn):
        forged.list_conversations(desk="desk")
