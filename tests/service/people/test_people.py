"""Signing in, members, roles, keys."""

from __future__ import annotations

import httpx
import pytest

from fontanel.client import (
    ChangedMeanwhile,
    Client,
    Conflict,
    Invalid,
    NotAllowed,
    NotFound,
    NotSignedIn,
)
from tests import patient
from tests.conftest import STORM, Service, TeamSetup, join, new_team

CONSOLE = {"X-Fontanel-Console": "1"}


def sign_in(http: httpx.Client, team: TeamSetup, **headers: str) -> httpx.Response:
    body = {"email": team.email, "password": team.password}
    return http.post("/api/v1/session", json=body, headers={**CONSOLE, **headers})


@pytest.fixture
def http(service: Service) -> httpx.Client:
    return patient.Client(base_url=service.url)


def test_the_cookie_is_out_of_reach_of_scripts_and_other_sites(
    http: httpx.Client, team: TeamSetup
) -> None:
    cookie = sign_in(http, team).headers["set-cookie"].lower()
    assert "httponly" in cookie
    assert "samesite=strict" in cookie
    session = http.get("/api/v1/session").json()
    assert session["email"] == team.email
    assert [item["role"] for item in session["teams"]] == ["owner"]


def test_changes_need_the_console_and_its_own_origin(http: httpx.Client, team: TeamSetup) -> None:
    sign_in(http, team)
    path, body = f"/api/v1/teams/{team.slug}/kbs", {"name": "Rules"}
    assert http.post(path, json=body).status_code == 403
    foreign = http.post(path, json=body, headers={**CONSOLE, "Origin": "https://elsewhere.example"})
    assert foreign.json()["type"] == "urn:fontanel:problem:cross-site"
    assert http.post(path, json=body, headers=CONSOLE).status_code == 201
    assert sign_in(http, team, Origin="https://elsewhere.example").status_code == 403


def test_signing_out_ends_the_session_for_good(http: httpx.Client, team: TeamSetup) -> None:
    sign_in(http, team)
    cookies = dict(http.cookies)
    assert http.delete("/api/v1/session", headers=CONSOLE).status_code == 204
    assert patient.get(f"{http.base_url}/api/v1/session", cookies=cookies).status_code == 401


def test_a_wrong_password_says_no_more_than_that(http: httpx.Client, team: TeamSetup) -> None:
    answers = [
        http.post(
            "/api/v1/session", json={"email": email, "password": "wrong wrong"}, headers=CONSOLE
        ).json()
        for email in (team.email, "nobody@skerrow.example")
    ]
    assert answers[0]["detail"] == answers[1]["detail"]
    assert answers[0]["type"] == "urn:fontanel:problem:wrong-password"


def test_a_new_password_ends_other_sessions(http: httpx.Client, team: TeamSetup) -> None:
    sign_in(http, team)
    with patient.Client(base_url=http.base_url) as other:
        sign_in(other, team)
        change = {"current": team.password, "new": "a-much-longer-password"}
        assert (
            http.put(
                "/api/v1/session/password", json={**change, "current": "no"}, headers=CONSOLE
            ).status_code
            == 401
        )
        assert http.put("/api/v1/session/password", json=change, headers=CONSOLE).status_code == 204
        assert other.get("/api/v1/session").status_code == 401
        assert http.get("/api/v1/session").status_code == 200


def test_roles_may_do_what_they_are_for(team: TeamSetup, storm: str) -> None:
    with team.with_role("reader") as reader:
        assert reader.search(storm, "quay crane").hits
        assert reader.ask(storm, "At what gust does the quay crane stop?").text
        for refused in (
            lambda: reader.add_document(storm, STORM, "x.md"),
            lambda: reader.delete_document(storm, "storm-plan.md"),
            lambda: reader.create_kb("Mine"),
            reader.list_keys,
        ):
            with pytest.raises(NotAllowed):
                refused()
    with team.with_role("editor") as editor:
        assert editor.add_document(storm, b"# Note\n\nText.", "note.md").outcome == "added"
        with pytest.raises(NotAllowed):
            editor.list_members()
        with pytest.raises(NotAllowed):
            editor.make_key("more", "owner")


def test_members_come_and_go(team: TeamSetup) -> None:
    email = f"pilot-{team.slug}@skerrow.example"
    join(team.service, team.client, email, "A pilot")
    assert email in [member.email for member in team.client.list_members()]
    with pytest.raises(Conflict):
        team.client.invite(email, "A pilot")
    team.client.remove_member(email)
    assert email not in [member.email for member in team.client.list_members()]
    with pytest.raises(NotFound):
        team.client.remove_member(email)


def test_a_team_keeps_an_owner(team: TeamSetup) -> None:
    with pytest.raises(Conflict, match="at least one owner"):
        team.client.remove_member(team.email)


def test_a_revoked_or_expired_key_opens_nothing(team: TeamSetup) -> None:
    key = team.client.make_key("short", expires_in_days=1)
    with Client(team.service.url, key.secret, team.slug) as client:
        assert client.session().kind == "key"
        team.client.revoke_key(key.id)
        with pytest.raises(NotSignedIn):
            client.list_kbs()
    listed = [item.model_dump_json() for item in team.client.list_keys()]
    assert not any(key.secret in item for item in listed)


def test_idempotency_keys_make_repeats_harmless(team: TeamSetup) -> None:
    first = team.client.create_kb("Once", idempotency_key="abc")
    assert team.client.create_kb("Once", idempotency_key="abc").id == first.id
    with pytest.raises(Conflict, match="another request"):
        team.client.create_kb("Twice", idempotency_key="abc")
    with pytest.raises(Invalid, match="already"):
        team.client.create_kb("once")


def test_an_edit_of_an_old_version_is_refused(team: TeamSetup, kb: str) -> None:
    before = team.client.show_kb(kb)
    after = team.client.change_kb(kb, name="Port rules", version=before.version)
    assert (after.name, after.slug) == ("Port rules", kb)
    with pytest.raises(ChangedMeanwhile):
        team.client.change_kb(kb, name="Other", version=before.version)


def test_a_team_can_be_renamed_and_deleted_by_an_operator(service: Service) -> None:
    team = new_team(service)
    kb = team.client.create_kb("Gone soon")
    team.client.add_document(kb.id, STORM, "storm-plan.md", wait=True)
    with patient.Client(base_url=f"{service.url}/api/v1", headers=CONSOLE) as http:
        http.post("/session", json={"email": "operator@localhost", "password": service.password})
        renamed = http.patch(f"/teams/{team.slug}", json={"name": "Renamed"})
        assert renamed.json()["name"] == "Renamed"
        assert http.delete(f"/teams/{team.slug}").status_code == 204
        assert http.get(f"/teams/{team.slug}").status_code == 404
    with pytest.raises(NotSignedIn):
        team.client.list_kbs()


def test_a_role_can_be_changed(team: TeamSetup) -> None:
    email = f"mate-{team.slug}@skerrow.example"
    join(team.service, team.client, email, "A mate")
    made = next(member for member in team.client.list_members() if member.email == email)
    with patient.Client(
        base_url=f"{team.service.url}/api/v1", headers={"Authorization": f"Bearer {team.key}"}
    ) as http:
        changed = http.patch(f"/teams/{team.slug}/members/{made.id}", json={"role": "editor"})
        assert changed.json()["role"] == "editor"
        wrong = http.patch(f"/teams/{team.slug}/members/{made.id}", json={"role": "admiral"})
        assert wrong.status_code == 422
        assert wrong.json()["field"] == "role"
