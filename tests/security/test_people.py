"""Impersonation: invitations, passwords, guessing, operators, sign-ins."""

from __future__ import annotations

import email
import email.policy
import socketserver
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from fontanel.client import (
    Client,
    Conflict,
    Invalid,
    NotAllowed,
    NotFound,
    NotSignedIn,
    ProblemError,
)
from fontanel.service.auth.rate_limits import Buckets, Rate, SignInLimits, network_of
from tests import patient
from tests.conftest import STORM, Service, TeamSetup, join, new_team

CONSOLE = {"X-Fontanel-Console": "1"}


def secret_of(team: TeamSetup, address: str, **more: str) -> str:
    made = team.client.invite(address, "Somebody", **more)  # type: ignore[arg-type]
    assert made.url is not None
    assert made.url.endswith(f"/invitation#{made.secret}")
    assert made.secret is not None
    return made.secret


def test_an_invitation_is_opened_accepted_once_and_gone(team: TeamSetup) -> None:
    address = f"new-{team.slug}@skerrow.example"
    secret = secret_of(team, address.upper(), role="editor")
    with Client(team.service.url) as invited:
        face = invited.open_invitation(secret)
        assert (face.team, face.email, face.role) == (team.name, address, "editor")
        with pytest.raises(Invalid):
            invited.accept_invitation(secret)
        with pytest.raises(ValidationError):
            invited.accept_invitation(secret, password="short")
        session = invited.accept_invitation(secret, "N. Ewcomer", "a long password")
        assert (session.name, [t.slug for t in session.teams]) == ("N. Ewcomer", [team.slug])
        for again in (invited.open_invitation, invited.accept_invitation):
            with pytest.raises(NotFound):
                again(secret)
    assert team.client.list_invitations() == []
    assert "member.joined" in [notice.kind for notice in team.client.list_notices().items]


def test_whoever_invites_an_address_first_gains_nothing(team: TeamSetup) -> None:
    """Beta's owner uses their own link for a person before alpha invites that person."""
    beta = new_team(team.service)
    address = f"victim-{team.slug}@skerrow.example"
    with Client(team.service.url) as impostor:
        impostor.accept_invitation(secret_of(beta, address), password="the impostor's own")
        alpha = secret_of(team, address)
        assert [t.slug for t in impostor.session().teams] == [beta.slug]
    # Alpha's link reaches the person whom alpha sends it to, and sets no existing password.
    with Client(team.service.url) as victim, pytest.raises(NotSignedIn, match="account"):
        victim.accept_invitation(alpha, password="the victim's own pw")
    with team.service.operator() as operator:
        link = operator.make_password_link(address)
    with Client(team.service.url) as victim:
        victim.set_password(link.secret, "the victim's own pw")
        victim.sign_in(address, "the victim's own pw")
        assert team.slug in [t.slug for t in victim.accept_invitation(alpha).teams]
    with Client(team.service.url) as impostor, pytest.raises(NotSignedIn):
        impostor.sign_in(address, "the impostor's own")


def test_an_inviter_learns_nothing_about_people_of_other_teams(team: TeamSetup) -> None:
    other = new_team(team.service)
    existing, unknown = (
        team.client.invite(one, "X") for one in (other.email, "nobody-at-all@skerrow.example")
    )
    hidden = {"id", "email", "secret", "url", "created_at", "expires_at"}
    assert existing.model_dump(exclude=hidden) == unknown.model_dump(exclude=hidden)
    with Client(team.service.url) as looker:
        faces = [
            looker.open_invitation(made.secret or "").model_dump(exclude={"email", "expires_at"})
            for made in (existing, unknown)
        ]
    assert faces[0] == faces[1]


def test_an_invitation_is_for_one_person(team: TeamSetup) -> None:
    other = new_team(team.service)
    secret = secret_of(team, f"somebody-{team.slug}@skerrow.example")
    with Client(team.service.url) as wrong:
        wrong.sign_in(other.email, other.password)
        with pytest.raises(NotAllowed, match="signed in as"):
            wrong.accept_invitation(secret)


def test_an_invitation_can_be_withdrawn_and_is_replaced(team: TeamSetup) -> None:
    address = f"late-{team.slug}@skerrow.example"
    first = secret_of(team, address)
    second = secret_of(team, address)
    assert len(team.client.list_invitations()) == 1
    with Client(team.service.url) as invited:
        with pytest.raises(NotFound):
            invited.open_invitation(first)
        assert invited.open_invitation(second)
        team.client.withdraw_invitation(address)
        with pytest.raises(NotFound):
            invited.open_invitation(second)


def test_no_owner_sets_a_password_for_somebody_else(team: TeamSetup) -> None:
    address = f"mate-{team.slug}@skerrow.example"
    join(team.service, team.client, address, "A mate")
    with Client(team.service.url, team=team.slug) as owner:
        owner.sign_in(team.email, team.password)
        with pytest.raises(NotAllowed):
            owner.make_password_link(address)


def test_a_password_link_works_once_and_ends_all_sign_ins(team: TeamSetup) -> None:
    with Client(team.service.url) as person, team.service.operator() as operator:
        person.sign_in(team.email, team.password)
        first, second = (
            operator.make_password_link(team.email),
            operator.make_password_link(team.email),
        )
        with pytest.raises(NotFound):
            person.set_password(first.secret, "a new password 1")
        person.set_password(second.secret, "a new password 2")
        with pytest.raises(NotFound):
            person.set_password(second.secret, "a new password 3")
        with pytest.raises(NotSignedIn):
            person.list_sign_ins()
        person.sign_in(team.email, "a new password 2")


class _Mail(socketserver.StreamRequestHandler):
    """Just enough of an SMTP server (RFC 5321) to take a message."""

    def handle(self) -> None:
        taken: list[str] = self.server.taken  # type: ignore[attr-defined]
        self.wfile.write(b"220 mail.skerrow.example\r\n")
        while line := self.rfile.readline():
            verb = line[:4].upper()
            if verb == b"DATA":
                self.wfile.write(b"354 go on\r\n")
                message = b""
                while (part := self.rfile.readline()) != b".\r\n":
                    message += part
                taken.append(message.decode())
            elif verb == b"RCPT" and b"refused@" in line:
                self.wfile.write(b"550 no such person\r\n")
                continue
            elif verb == b"QUIT":
                self.wfile.write(b"221 bye\r\n")
                return
            self.wfile.write(b"250 fine\r\n")


@pytest.fixture
def mail() -> Iterator[tuple[str, list[str]]]:
    with socketserver.ThreadingTCPServer(("127.0.0.1", 0), _Mail) as server:
        server.taken = []  # type: ignore[attr-defined]
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield f"smtp://127.0.0.1:{server.server_address[1]}", server.taken  # type: ignore[attr-defined]
        server.shutdown()


def test_with_a_mail_server_the_link_goes_to_the_address_alone(
    tmp_path: Path, mail: tuple[str, list[str]]
) -> None:
    url, taken = mail
    running = Service(
        tmp_path / "data",
        {"FONTANEL_SMTP_URL": url, "FONTANEL_PUBLIC_URL": "https://qa.skerrow.example"},
    )
    running.start()
    try:
        with running.operator() as operator:
            team = operator.create_team("Pilots")
            operator.use_team(team.slug)
            made = operator.invite("varda@skerrow.example", "I. Varda", "owner")
            assert (made.url, made.secret) == (None, None)
            assert len(taken) == 1
            message = email.message_from_string(taken[0], policy=email.policy.default)
            assert message["To"] == "varda@skerrow.example"
            text = message.get_content()
            link = next(
                word
                for word in text.split()
                if word.startswith("https://qa.skerrow.example/invitation#")
            )
            with pytest.raises(ProblemError, match="mail server"):
                operator.invite("refused@skerrow.example", "Nobody")
            assert [row.email for row in operator.list_invitations()] == ["varda@skerrow.example"]
        with Client(running.url) as invited:
            assert invited.accept_invitation(
                link.rpartition("#")[2], password="a long password"
            ).teams
    finally:
        running.stop()


# Guessing


def test_many_guesses_at_once_are_no_way_around(tmp_path: Path) -> None:
    running = Service(tmp_path / "data").start()
    try:

        def guess(number: int) -> int:
            body = {"email": "operator@localhost", "password": f"guess number {number}"}
            return patient.post(
                f"{running.url}/api/v1/session", json=body, headers=CONSOLE, timeout=60
            ).status_code

        with ThreadPoolExecutor(30) as pool:
            codes = list(pool.map(guess, range(60)))
        assert codes.count(401) == 10
        assert codes.count(429) == 50
        refused = patient.post(
            f"{running.url}/api/v1/session",
            json={"email": "operator@localhost", "password": running.password},
            headers=CONSOLE,
        )
        assert 0 < int(refused.headers["retry-after"]) <= 60
        # A header that anybody can send makes nobody somebody else.
        spoofed = patient.post(
            f"{running.url}/api/v1/session",
            json={"email": "operator@localhost", "password": "guess"},
            headers={**CONSOLE, "X-Forwarded-For": "198.51.100.7"},
        )
        assert spoofed.status_code == 429
    finally:
        running.stop()


def test_changing_a_password_is_guessing_too(team: TeamSetup) -> None:
    with patient.Client(base_url=f"{team.service.url}/api/v1", headers=CONSOLE) as http:
        http.post("/session", json={"email": team.email, "password": team.password})
        codes = [
            http.put(
                "/session/password", json={"current": f"no {n}", "new": "a new password"}
            ).status_code
            for n in range(12)
        ]
        assert codes == [401] * 10 + [429] * 2


class Clock:
    def __init__(self) -> None:
        self.now = 0.0

    def __call__(self) -> float:
        return self.now


def refused(limits: SignInLimits, account: str, address: str) -> bool:
    try:
        limits.begin(account, address)
    except Exception:
        return True
    return False


def test_a_stranger_s_guesses_slow_the_right_person_down_no_further_than_a_moment() -> None:
    clock = Clock()
    limits = SignInLimits(clock)
    limits.begin("a", "192.0.2.1")
    limits.succeeded("a", "192.0.2.1")
    for number in range(400):
        refused(limits, "a", f"198.51.{number % 200}.{number % 250}")
    assert refused(limits, "a", "203.0.113.1"), "an address that nobody knows has to wait"
    assert not refused(limits, "a", "192.0.2.1"), "one's own does not"
    clock.now += 21
    assert not refused(limits, "a", "203.0.113.1"), "and nobody is locked out"


def test_wrong_tries_fill_up_again_one_by_one() -> None:
    clock = Clock()
    limits = SignInLimits(clock)
    assert sum(not refused(limits, "a", "192.0.2.1") for _ in range(100)) == 10
    for _ in range(5):
        clock.now += 31
        assert not refused(limits, "a", "192.0.2.1")
        assert refused(limits, "a", "192.0.2.1")


def test_made_up_names_do_not_make_counters_vanish() -> None:
    clock = Clock()
    limits = SignInLimits(clock)
    for _ in range(10):
        limits.begin("a", "192.0.2.1")
    for number in range(30_000):
        refused(limits, f"made up {number}", "192.0.2.1")
    assert refused(limits, "a", "192.0.2.1")


@given(st.lists(st.tuples(st.sampled_from("abc"), st.floats(0, 100)), max_size=60))
def test_a_bucket_never_gives_more_than_its_rate(steps: list[tuple[str, float]]) -> None:
    clock, rate = Clock(), Rate(5, 10.0)
    buckets = Buckets(clock, capacity=2)
    taken = 0
    for name, pause in steps:
        clock.now += pause
        if name == "a" and buckets.available("a", rate) >= 1:
            buckets.take("a", rate)
            taken += 1
    assert taken <= rate.burst + clock.now / rate.seconds + 1


def test_an_ipv6_subscriber_is_one_address() -> None:
    assert (
        network_of("2001:db8:1:2::5")
        == network_of("2001:db8:1:2:aaaa::9")
        != network_of("2001:db8:1:3::5")
    )
    assert network_of("::ffff:192.0.2.1") == "192.0.2.1"


# Operators


def test_an_operator_s_key_expires_soon_and_the_team_is_told(team: TeamSetup) -> None:
    with team.service.operator() as operator:
        operator.use_team(team.slug)
        for days in (None, 8, 365):
            with pytest.raises(NotAllowed):
                operator.make_key("to have a look", "reader", expires_in_days=days)
        made = operator.make_key("to have a look", "reader", expires_in_days=1)
    listed = next(key for key in team.client.list_keys() if key.id == made.id)
    assert listed.by_operator
    assert listed.made_by == "Operator"
    notice = team.client.list_notices().items[0]
    assert notice.kind == "key.by_operator"
    assert "Operator" in notice.message
    assert not any(key.by_operator for key in team.client.list_keys() if key.id != made.id)


# Sign-ins


def test_a_person_sees_and_ends_their_other_sign_ins(team: TeamSetup) -> None:
    with Client(team.service.url) as one, Client(team.service.url) as other:
        one.sign_in(team.email, team.password)
        other.sign_in(team.email, team.password)
        rows = one.list_sign_ins()
        assert len(rows) >= 2
        assert [row.current for row in rows].count(True) == 1
        assert {row.address for row in rows} == {"127.0.0.1"}
        one.end_other_sign_ins()
        assert len(one.list_sign_ins()) == 1
        with pytest.raises(NotSignedIn):
            other.list_sign_ins()


def test_the_same_address_twice_is_one_membership(team: TeamSetup) -> None:
    address = f"twice-{team.slug}@skerrow.example"
    join(team.service, team.client, address, "Twice")
    with pytest.raises(Conflict):
        team.client.invite(address, "Twice")
    assert (
        team.client.add_document(team.client.create_kb("X").slug, STORM, "x.md").outcome == "added"
    )
