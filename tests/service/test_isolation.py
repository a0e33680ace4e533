"""Nothing crosses a team's border: every route of the API, with a stranger's credentials and with none."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from fontanel import schemas as s
from fontanel.service.app import create_app
from fontanel.settings import Settings
from tests.conftest import STORM, Service, TeamSetup, new_team, until

OPENAPI = create_app(Settings()).openapi()
#: Routes that are for everyone, and what they may answer a stranger.
OPEN = {("get", "/health/live"), ("get", "/health/ready"), ("get", "/metrics"), ("post", "/api/v1/session")}
#: Routes that a one-time link opens.
LINKED = {("post", "/api/v1/invitations/open"), ("post", "/api/v1/invitations/accept"), ("post", "/api/v1/passwords")}
#: Routes about the caller alone.
OWN = {
    ("get", "/api/v1/session"),
    ("delete", "/api/v1/session"),
    ("put", "/api/v1/session/password"),
    ("get", "/api/v1/session/sign-ins"),
    ("delete", "/api/v1/session/sign-ins"),
    ("get", "/api/v1/source-kinds"),
    ("get", "/api/v1/teams"),
    ("post", "/api/v1/teams"),
}
#: Routes that a signature opens.
SIGNED = {("post", "/api/v1/signals/{source}")}
SECRET = "duty harbour master"


def routes() -> Iterator[tuple[str, str, dict[str, Any]]]:
    for path, operations in OPENAPI["paths"].items():
        for method, operation in operations.items():
            yield method, path, operation


def example(schema: dict[str, Any]) -> Any:
    """A value that fits a schema, so that a request fails for want of rights and not of form."""
    if "$ref" in schema:
        return example(OPENAPI["components"]["schemas"][schema["$ref"].rsplit("/", 1)[-1]])
    if "anyOf" in schema:
        return example(schema["anyOf"][0])
    if "default" in schema:
        return schema["default"]
    if "enum" in schema:
        return schema["enum"][0]
    kind = schema.get("type")
    if kind == "object":
        wanted = schema.get("required", [])
        return {name: example(part) for name, part in schema.get("properties", {}).items() if name in wanted}
    if kind == "array":
        return []
    if "pattern" in schema and "@" in schema["pattern"]:
        return "someone@skerrow.example"
    return {"integer": 1, "number": 0.5, "boolean": False}.get(kind or "", "a text that is long enough")


def request_for(method: str, path: str, operation: dict[str, Any], ids: dict[str, str]) -> dict[str, Any]:
    for name, value in ids.items():
        path = path.replace("{" + name + "}", value)
    assert "{" not in path, f"the walk knows no value for {path}"
    content = operation.get("requestBody", {}).get("content", {})
    out: dict[str, Any] = {"method": method.upper(), "url": path}
    if "multipart/form-data" in content:
        out["files"] = {"file": ("intruder.md", b"# Intruder")}
    elif content:
        out["json"] = example(content["application/json"]["schema"])
    return out


@pytest.fixture(scope="module")
def victim(service: Service) -> tuple[TeamSetup, dict[str, str]]:
    team = new_team(service, "The Victims")
    kb = team.client.create_kb("Private rules")
    added = team.client.add_document(kb.id, STORM, "storm-plan.md", {"year": "2024"}, wait=True)
    answer = team.client.ask(kb.id, "At what gust does the quay crane stop?")
    source = team.client.connect_source(kb.id, s.SourceIn(name="Tickets", kind="push", settings={}))
    sync = team.client.push_documents(kb.id, source.id, [s.PushedIn(id="t-1", text="The winch jams.")]).sync
    receiver = team.client.add_receiver("https://ops.skerrow.example/events")
    desk = team.client.create_desk("Private desk", s.DeskSettings(kbs=[s.DeskKb(kb=kb.id)], audience="link"))
    team.client.publish_desk(desk.id)
    link = team.client.make_desk_link(desk.id, "Private link")
    asked = team.client.ask_desk(desk.id, "At what gust does the quay crane stop?")
    invitation = team.client.invite("mate-to-be@skerrow.example", "A mate to be")
    with service.operator() as operator:
        model = operator.create_model(s.ModelIn(name="private-model", url="http://127.0.0.1:9/v1", teams=[team.slug]))
    until(lambda: all(document.state == "indexed" for document in team.client.list_documents(kb.id)))
    ids = {
        "desk": desk.id,
        "link": link.id,
        "turn": asked.turn_id,
        "answer": asked.turn_id,
        "model": model.name,
        "source": source.id,
        "sync": sync,
        "receiver": receiver.id,
        "team": team.slug,
        "kb": kb.slug,
        "document": added.document.id,
        "job": added.job.id if added.job else "",
        "number": "1",
        "page": "1",
        "revision": added.document.revision.id,
        "conversation": answer.conversation_id,
        "member": team.email,
        "email": team.email,
        "invitation": invitation.id,
        "key": team.client.list_keys()[0].id,
    }
    return team, ids


def everything(team: TeamSetup, kb: str) -> str:
    """All that a stranger could change, as one text."""
    client = team.client
    found: list[Any] = [client.list_teams(), client.list_kbs(), client.list_members(), client.list_invitations(), client.list_keys(),
                        client.list_sources(kb), client.list_receivers(), client.list_desks(), client.list_usable_models()]  # fmt: skip
    found += [
        list(client.list_documents(kb)),
        client.list_conversations(kb=kb),
        *(
            (client.list_desk_answers(d.id), client.list_desk_links(d.id), client.list_conversations(desk=d.id))[n]
            for d in client.list_desks()
            for n in range(3)
        ),
        list(client.list_passages(kb, "storm-plan.md")),
    ]
    # Noting when a key was last used, or whether a model can be reached, is no change of the team's records.
    items = [
        item.model_dump(mode="json", exclude={"last_used_at", "freshness", "error"}) for part in found for item in part
    ]
    return json.dumps(items, sort_keys=True)


@pytest.fixture(scope="module")
def untouched(victim: tuple[TeamSetup, dict[str, str]]) -> str:
    """All of it before any stranger came."""
    return everything(victim[0], victim[1]["kb"])


def test_the_walk_sees_every_route() -> None:
    assert len(list(routes())) > 35


@pytest.mark.parametrize(
    ("method", "path", "operation"), [pytest.param(*route, id=f"{route[0]} {route[1]}") for route in routes()]
)
def test_strangers_reach_nothing(
    method: str, path: str, operation: dict[str, Any], service: Service, stranger: dict[str, httpx.Client],
    victim: tuple[TeamSetup, dict[str, str]], untouched: str,
) -> None:  # fmt: skip
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
            assert word not in response.text.replace(ids["member"], "") or (method, path) in OPEN, (who, word)
        if (method, path) in OPEN | OWN:
            continue
        expected = (
            {401} if (who == "nobody" and (method, path) not in LINKED) or (method, path) in SIGNED else {403, 404}
        )
        assert response.status_code in expected, (who, response.status_code, response.text)
        assert response.headers["content-type"] == "application/problem+json"
    assert everything(team, ids["kb"]) == untouched


@pytest.fixture(scope="module")
def stranger(service: Service) -> Iterator[dict[str, httpx.Client]]:
    """Nobody; a signed-in owner of another team; a key of another team."""
    other = new_team(service, "The Strangers")
    key = other.client.make_key("a stranger's", "owner")
    headers = {"Authorization": f"Bearer {key.secret}"}
    with (
        httpx.Client(base_url=service.url) as nobody,
        httpx.Client(base_url=service.url, headers=headers) as program,
        SignedIn(other) as person,
    ):
        yield {"nobody": nobody, "key": program, "person": person}


class SignedIn(httpx.Client):
    """Signs in anew for each request, since one of the routes walked signs out."""

    def __init__(self, team: TeamSetup) -> None:
        super().__init__(base_url=team.service.url, headers={"X-Fontanel-Console": "1"})
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
    committed = json.loads((Path(__file__).parents[2] / "docs" / "openapi.json").read_text())
    assert committed == json.loads(json.dumps(OPENAPI)), "run `make api`"
