"""Nothing crosses a team's border.

Every route, with a stranger's credentials or none.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from fontanel.records.ids import new_id
from tests import patient
from tests.conftest import ROOT, Service, TeamSetup, new_team
from tests.seeds import OPENAPI, example, seed

#: Routes that are for everyone, and what they may answer a stranger.
OPEN = {
    ("get", "/health/live"),
    ("get", "/health/ready"),
    ("get", "/metrics"),
    ("post", "/api/v1/session"),
    ("get", "/api/v1/receipt-key"),
    ("get", "/api/v1/session/provider"),
    ("get", "/api/v1/session/provider/start"),
    ("get", "/api/v1/session/provider/return"),
}
#: Routes that a secret in a link opens, or a token of the provider of single sign-on.
LINKED = {
    ("post", "/api/v1/session/provider/logout"),
    ("post", "/api/v1/invitations/open"),
    ("post", "/api/v1/invitations/accept"),
    ("post", "/api/v1/passwords"),
    ("get", "/api/v1/feeds/answers/{secret}"),
}
#: Routes about the caller alone.
OWN = {
    ("get", "/api/v1/session"),
    ("delete", "/api/v1/session"),
    ("put", "/api/v1/session/password"),
    ("get", "/api/v1/session/sign-ins"),
    ("delete", "/api/v1/session/sign-ins"),
    ("get", "/api/v1/source-kinds"),
    ("get", "/api/v1/channel-kinds"),
    ("get", "/api/v1/facts"),
    ("get", "/api/v1/teams"),
    ("post", "/api/v1/teams"),
}
#: Routes that a signature opens.
SIGNED = {
    ("post", "/api/v1/signals/{source}"),
    ("post", "/api/v1/channels/{channel}/messages"),
}
SECRET = "duty harbour master"


def routes() -> Iterator[tuple[str, str, dict[str, Any]]]:
    for path, operations in OPENAPI["paths"].items():
        for method, operation in operations.items():
            yield method, path, operation


def request_for(
    method: str, path: str, operation: dict[str, Any], ids: dict[str, str]
) -> dict[str, Any]:
    for name, value in ids.items():
        path = path.replace("{" + name + "}", value)
    assert "{" not in path, f"the walk knows no value for {path}"
    content = operation.get("requestBody", {}).get("content", {})
    out: dict[str, Any] = {"method": method.upper(), "url": path}
    if "multipart/form-data" in content:
        out["files"] = {"file": ("intruder.md", b"# Intruder")}
    elif "application/x-www-form-urlencoded" in content:
        schema = content["application/x-www-form-urlencoded"]["schema"]
        out["data"] = example(OPENAPI, schema)
    elif content:
        out["json"] = example(OPENAPI, content["application/json"]["schema"])
    return out


@pytest.fixture(scope="module")
def victim(service: Service) -> tuple[TeamSetup, dict[str, str]]:
    return seed(service, f"The Victims {new_id('t')}")


def everything(team: TeamSetup, kb: str) -> str:
    """All that a stranger could change, as one text."""
    client = team.client
    results: list[Any] = [
        client.list_teams(),
        client.list_kbs(),
        client.list_members(),
        client.list_invitations(),
        client.list_keys(),
        client.list_sources(kb),
        client.list_receivers(),
        client.list_desks(),
        client.list_usable_models(),
    ]
    results += [
        list(client.list_documents(kb)),
        client.list_approved(kb),
        client.list_conversations(kb=kb),
        *(
            (
                client.list_desk_answers(d.id),
                client.list_desk_links(d.id),
                client.list_conversations(desk=d.id),
            )[n]
            for d in client.list_desks()
            for n in range(3)
        ),
        list(client.list_passages(kb, "storm-plan.md")),
    ]
    # The last use of a key, or whether a model responds, is not a change of records.
    items = [
        item.model_dump(mode="json", exclude={"last_used_at", "freshness", "error"})
        for part in results
        for item in part
    ]
    return json.dumps(items, sort_keys=True)


@pytest.fixture(scope="module")
def untouched(victim: tuple[TeamSetup, dict[str, str]]) -> str:
    """All of it before any stranger's request."""
    return everything(victim[0], victim[1]["kb"])


def test_the_walk_sees_every_route() -> None:
    assert len(list(routes())) > 35


@pytest.mark.parametrize(
    ("method", "path", "operation"),
    [pytest.param(*route, id=f"{route[0]} {route[1]}") for route in routes()],
)
def test_strangers_reach_nothing(
    method: str,
    path: str,
    operation: dict[str, Any],
    service: Service,
    stranger: dict[str, httpx.Client],
    victim: tuple[TeamSetup, dict[str, str]],
    untouched: str,
) -> None:
    team, ids = victim
    for who, client in stranger.items():
        response = client.request(**request_for(method, path, operation, ids))
        assert response.status_code < 500, response.text
        for word in (
            SECRET,
            "Private rules",
            "Private desk",
            "Private link",
            team.email,
            team.password,
            team.key,
            "storm-plan",
        ):
            assert word not in response.text.replace(ids["member"], "") or (method, path) in OPEN, (
                who,
                word,
            )
        if (method, path) in OPEN | OWN:
            continue
        expected = (
            {401}
            if (who == "nobody" and (method, path) not in LINKED) or (method, path) in SIGNED
            else {403, 404}
        )
        assert response.status_code in expected, (who, response.status_code, response.text)
        assert response.headers["content-type"] == "application/problem+json"
    assert everything(team, ids["kb"]) == untouched


@pytest.mark.parametrize(
    ("method", "path", "operation"),
    [
        pytest.param(*route, id=f"{route[0]} {route[1]}")
        for route in routes()
        if route[0] == "get" or "/kbs/{kb}" in route[1] or "/desks/{desk}" in route[1]
    ],
)
def test_operators_read_no_documents_and_no_answers(
    method: str,
    path: str,
    operation: dict[str, Any],
    operating: httpx.Client,
    victim: tuple[TeamSetup, dict[str, str]],
    untouched: str,
) -> None:
    team, ids = victim
    response = operating.request(**request_for(method, path, operation, ids))
    assert response.status_code < 500, response.text
    # The list of sources that are late names their knowledge bases.
    names = () if path == "/api/v1/freshness" else ("Private rules",)
    # The audit log names what was changed, without its contents.
    audited = path.endswith(("/audit", "/audit/export"))
    named = () if audited else (*names, "Private link", "storm-plan")
    for word in (SECRET, *named, team.key, team.password):
        assert word not in response.text, word
    if "/kbs/{kb}" in path or "/desks/{desk}" in path:
        assert response.status_code in {403, 404}, response.text
        assert everything(team, ids["kb"]) == untouched


@pytest.fixture(scope="module")
def operating(service: Service) -> Iterator[httpx.Client]:
    """The operator, who is in no team."""
    credentials = {"email": "operator@localhost", "password": service.password}
    headers = {"X-Fontanel-Console": "1"}
    with patient.Client(base_url=service.url, headers=headers, timeout=30) as client:
        assert client.post("/api/v1/session", json=credentials).status_code == 200
        yield client


@pytest.fixture(scope="module")
def stranger(service: Service) -> Iterator[dict[str, httpx.Client]]:
    """Nobody; a signed-in owner of another team; a key of another team."""
    other = new_team(service)
    key = other.client.make_key("a stranger's", "owner")
    headers = {"Authorization": f"Bearer {key.secret}"}
    with (
        patient.Client(base_url=service.url) as nobody,
        patient.Client(base_url=service.url, headers=headers) as program,
        SignedIn(other) as person,
    ):
        yield {"nobody": nobody, "key": program, "person": person}


class SignedIn(httpx.Client):
    """Signs in again for each request, since one of the routes walked signs out."""

    def __init__(self, team: TeamSetup) -> None:
        headers = {"X-Fontanel-Console": "1"}
        super().__init__(base_url=team.service.url, headers=headers, timeout=patient.PATIENCE)
        self._body = {"email": team.email, "password": team.password}

    def request(self, *args: Any, **kwargs: Any) -> httpx.Response:
        assert super().request("POST", "/api/v1/session", json=self._body).status_code == 200
        return super().request(*args, **kwargs)


def test_a_key_for_one_knowledge_base_reaches_no_other(team: TeamSetup) -> None:
    mine, other = team.client.create_kb("Mine"), team.client.create_kb("Other")
    key = team.client.make_key("narrow", "editor", [mine.slug])
    from fontanel.client import Client, Invalid, NotFound

    with Client(team.service.url, key.secret, team.slug) as narrow:
        assert [kb.id for kb in narrow.list_kbs()] == [mine.id]
        for call in (narrow.show_kb, narrow.delete_kb):
            with pytest.raises(NotFound):
                call(other.id)
        with pytest.raises(NotFound):
            narrow.list_conversations(kb=other.id)
        with pytest.raises(Invalid):
            narrow.create_kb("A third")


def test_an_operator_manages_teams_but_reads_no_documents(
    service: Service, victim: tuple[TeamSetup, dict[str, str]]
) -> None:
    from fontanel.client import NotFound

    team, ids = victim
    with service.operator() as operator:
        operator.use_team(team.slug)
        assert operator.list_members()
        for call in (operator.list_kbs, lambda: operator.show_document(ids["kb"], ids["document"])):
            with pytest.raises(NotFound):
                call()


def test_the_description_that_is_committed_is_the_service_s(tmp_path: Path) -> None:
    committed = json.loads((ROOT / "docs" / "openapi.json").read_text())
    assert committed == json.loads(json.dumps(OPENAPI)), "run `make api`"
