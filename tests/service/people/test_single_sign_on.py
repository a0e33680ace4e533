"""Single sign-on with a real OpenID Connect provider."""

from __future__ import annotations

import json
import re
import subprocess
from collections.abc import Iterator
from dataclasses import dataclass, field
from html import unescape
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

import httpx
import pytest

from fontanel.client import Client, NotAllowed
from fontanel.engine.sign_on.people import parse_rules
from fontanel.errors import Refused
from tests import patient
from tests.conftest import ROOT, Service, free_port, join, until

ADA = {
    "email": "ada@skerrow.example",
    "email_verified": True,
    "name": "Ada Lund",
    "groups": ["harbour-editors"],
}
RULES = {
    "harbour-editors": ["marine-operations:editor"],
    "harbour-masters": ["marine-operations:owner", "passenger-services:reader"],
    "it": ["operator"],
    "nowhere": ["no-such-team:reader"],
}
_FORM = re.compile(r'<form[^>]*action="([^"]+)"[^>]*>(.*?)</form>', re.DOTALL)
_HIDDEN = re.compile(r'<input type="hidden" name="([^"]+)" value="([^"]*)"')


@dataclass
class RealProvider:
    """The provider's process, and the accounts that it knows."""

    accounts: Path
    port: int = field(default_factory=free_port)
    process: subprocess.Popen[str] | None = None

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def account(self, subject: str, /, **claims: Any) -> None:
        known = json.loads(self.accounts.read_text()) if self.accounts.exists() else {}
        self.accounts.write_text(json.dumps({**known, subject: claims}))

    def start(self, service_url: str, key: str = "first") -> None:
        self.process = subprocess.Popen(
            ["node", "server.mjs", str(self.port), service_url, str(self.accounts), key],
            cwd=ROOT / "tests" / "provider",
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
        )
        assert self.process.stdout is not None
        assert any(line == "ready\n" for line in self.process.stdout)

    def stop(self) -> None:
        if self.process is not None:
            self.process.kill()
            self.process.wait()


class Browser(httpx.Client):
    """Follows redirects and fills in the provider's forms, as a person would."""

    def __init__(self, service: Service) -> None:
        headers = {"X-Fontanel-Console": "1"}
        super().__init__(base_url=service.url, follow_redirects=True, headers=headers, timeout=30)

    def sign_in(self, name: str, page: str = "/t/marine-operations/kbs") -> httpx.Response:
        response = self.get("/api/v1/session/provider/start", params={"next": page})
        while "/interaction/" in response.url.path:
            response = self.submit(response, login=name, password="any")
        return response

    def submit(self, response: httpx.Response, **values: str) -> httpx.Response:
        found = _FORM.search(response.text)
        assert found is not None, response.text[:500]
        hidden = dict(_HIDDEN.findall(found[2]))
        return self.post(unescape(found[1]), data={**hidden, **values})

    def session(self) -> dict[str, Any]:
        result: dict[str, Any] = self.get("/api/v1/session").json()
        return result

    def roles(self) -> dict[str, str]:
        return {one["slug"]: one["role"] for one in self.session()["teams"]}


def problem_of(response: httpx.Response) -> str:
    """Return what the sign-in page shows."""
    assert response.url.path == "/sign-in", response.url
    return unquote(response.history[-1].cookies["fontanel_sign_in_problem"].strip('"'))


@pytest.fixture(scope="module")
def provider(tmp_path_factory: pytest.TempPathFactory) -> Iterator[RealProvider]:
    result = RealProvider(tmp_path_factory.mktemp("provider") / "accounts.json")
    yield result
    result.stop()


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory, provider: RealProvider) -> Iterator[Service]:
    """A service with two teams, where people sign in with the provider."""
    started = Service(
        tmp_path_factory.mktemp("signing-on") / "data",
        {
            "FONTANEL_OIDC_ISSUER": provider.url,
            "FONTANEL_OIDC_CLIENT_ID": "fontanel",
            "FONTANEL_OIDC_CLIENT_SECRET": "a secret of the client",
            "FONTANEL_OIDC_NAME": "Skerrow account",
            "FONTANEL_OIDC_RULES": json.dumps(RULES),
        },
    ).start()
    provider.start(started.url)
    with started.operator() as operator:
        for name in ("Marine Operations", "Passenger Services"):
            operator.create_team(name)
    yield started
    started.stop()


def test_groups_give_roles_and_take_them(service: Service, provider: RealProvider) -> None:
    provider.account("ada", **ADA)
    with Browser(service) as browser:
        assert browser.sign_in("ada").url.path == "/t/marine-operations/kbs"
        session = browser.session()
        assert (session["name"], session["email"]) == ("Ada Lund", "ada@skerrow.example")
        assert browser.roles() == {"marine-operations": "editor"}
        created = browser.post("/api/v1/teams/marine-operations/kbs", json={"name": "Rules"})
        assert created.status_code == 201
    provider.account("ada", **{**ADA, "groups": ["harbour-masters", "harbour-editors", "it"]})
    with Browser(service) as browser:
        browser.sign_in("ada")
        assert browser.roles() == {"marine-operations": "owner", "passenger-services": "reader"}
        assert browser.session()["operator"]
    provider.account("ada", **{**ADA, "groups": []})
    with Browser(service) as browser:
        browser.sign_in("ada")
        assert browser.roles() == {}
        assert not browser.session()["operator"]


def test_a_membership_that_an_owner_gave_stays(service: Service, provider: RealProvider) -> None:
    with service.operator() as operator:
        operator.use_team("marine-operations")
        join(service, operator, "bo@skerrow.example", "Bo", "reader")
    provider.account("bo", email="bo@skerrow.example", email_verified=True, name="Bo Vik")
    with Browser(service) as browser:
        browser.sign_in("bo")
        # The same person as before, recognised by the address.
        assert browser.roles() == {"marine-operations": "reader"}


def test_somebody_without_access_is_told_why(service: Service, provider: RealProvider) -> None:
    provider.account("cy", email="cy@skerrow.example", email_verified=True, groups=["canteen"])
    with Browser(service) as browser:
        message = problem_of(browser.sign_in("cy"))
        assert "signed in as cy@skerrow.example" in message
        assert browser.get("/api/v1/session").status_code == 401


def test_an_unverified_address_takes_over_no_account(
    service: Service, provider: RealProvider
) -> None:
    for name, verified in (("mallory", False), ("impostor", "true")):
        provider.account(
            name, email="operator@localhost", email_verified=verified, groups=["harbour-editors"]
        )
        with Browser(service) as browser:
            assert "does not confirm" in problem_of(browser.sign_in(name))


def test_nobody_signs_in_with_anothers_return(service: Service, provider: RealProvider) -> None:
    provider.account("ada", **ADA)
    with Browser(service) as victim, Browser(service) as attacker:
        attacker.follow_redirects = False
        response = attacker.get("/api/v1/session/provider/start")
        while True:
            if response.is_redirect:
                if "/provider/return" in response.headers["location"]:
                    break
                response = attacker.get(str(response.next_request.url))  # type: ignore[union-attr]
            else:
                response = attacker.submit(response, login="ada", password="any")
        theirs = response.headers["location"]
        assert "another browser" in problem_of(victim.get(theirs))
        victim.get("/api/v1/session/provider/start")
        assert "another window" in problem_of(victim.get(theirs))
        assert victim.get("/api/v1/session").status_code == 401


@pytest.mark.parametrize(
    "page", ["//evil.example", "https://evil.example", "/\\evil.example", "javascript:alert(1)"]
)
def test_nobody_is_sent_elsewhere(service: Service, provider: RealProvider, page: str) -> None:
    provider.account("ada", **ADA)
    with Browser(service) as browser:
        response = browser.sign_in("ada", page)
        assert (response.url.host, response.url.path) == ("127.0.0.1", "/")


def test_signing_out_at_the_provider_ends_the_sign_in_here(
    service: Service, provider: RealProvider
) -> None:
    provider.account("ada", **ADA)
    with Browser(service) as browser, Browser(service) as elsewhere:
        browser.sign_in("ada")
        elsewhere.sign_in("ada")
        page = browser.get(f"{provider.url}/session/end")
        browser.submit(page, logout="yes")
        until(lambda: browser.get("/api/v1/session").status_code == 401)
        # Another session at the provider goes on.
        assert elsewhere.get("/api/v1/session").status_code == 200


def test_a_logout_that_the_provider_did_not_sign_ends_nothing(service: Service) -> None:
    for token in ("", "no.token.here", "eyJhbGciOiJub25lIn0.e30."):
        response = patient.post(
            f"{service.url}/api/v1/session/provider/logout", data={"logout_token": token}
        )
        assert response.status_code == 422, response.text


def test_new_keys_of_the_provider_are_fetched(service: Service, provider: RealProvider) -> None:
    provider.account("ada", **ADA)
    with Browser(service) as browser:
        browser.sign_in("ada")
    provider.stop()
    provider.start(service.url, "second")

    def signed_in() -> bool:
        with Browser(service) as browser:
            browser.sign_in("ada")
            return browser.get("/api/v1/session").status_code == 200

    until(signed_in)


def test_a_provider_that_is_away_is_explained(service: Service, provider: RealProvider) -> None:
    provider.stop()
    try:
        with Browser(service) as browser:
            began = browser.get("/api/v1/session/provider/start", follow_redirects=False)
            returned = f"/api/v1/session/provider/return?code=a&state={_state(began)}"
            assert "cannot be" in problem_of(browser.get(returned))
    finally:
        provider.start(service.url, "third")


def _state(response: httpx.Response) -> str:
    query = parse_qs(urlsplit(response.headers["location"]).query)
    return query.get("state", ["none"])[0]


def test_sign_ins_are_in_the_audit_log(service: Service, provider: RealProvider) -> None:
    provider.account("ada", **ADA)
    with Browser(service) as browser:
        browser.sign_in("ada")
    with service.operator() as operator:
        page = operator.list_audit(everywhere=True, log="service", limit=200)
    signed_in = [one for one in page.items if one.action == "session.sign-in"]
    assert any(one.name == "Ada Lund" for one in signed_in)


def test_passwords_can_be_left_to_operators(tmp_path: Path, provider: RealProvider) -> None:
    environment = {
        "FONTANEL_OIDC_ISSUER": provider.url,
        "FONTANEL_OIDC_CLIENT_ID": "fontanel",
        "FONTANEL_PASSWORDS": "operators",
    }
    started = Service(tmp_path / "data", environment).start()
    with started.operator() as operator:
        operator.use_team(operator.create_team("Team").slug)
        password = join(started, operator, "dee@skerrow.example", "Dee")
    with Client(started.url) as dee, pytest.raises(NotAllowed, match="switched off"):
        dee.sign_in("dee@skerrow.example", password)
    ways = patient.get(f"{started.url}/api/v1/session/provider").json()
    assert ways == {"provider": "single sign-on", "passwords": "operators"}
    started.stop()


def test_without_a_provider_there_is_none_to_start(tmp_path: Path) -> None:
    started = Service(tmp_path / "data").start()
    ways = patient.get(f"{started.url}/api/v1/session/provider").json()
    assert ways == {"provider": None, "passwords": "everybody"}
    assert patient.get(f"{started.url}/api/v1/session/provider/start").status_code == 404
    started.stop()


def test_rules_are_checked_at_the_start() -> None:
    rules = parse_rules(RULES)
    assert len(rules) == 5
    for wrong in ("marine-operations", ":editor", "marine-operations:admin", "Operator"):
        with pytest.raises(Refused, match="is not a rule"):
            parse_rules({"group": [wrong]})
