"""Values that no record, header or database accepts are rejected, not failures."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import httpx
import pytest

from fontanel import schemas as s
from fontanel.client import Invalid
from tests import patient
from tests.conftest import TeamSetup


@pytest.fixture
def http(team: TeamSetup) -> Iterator[httpx.Client]:
    headers = {"Authorization": f"Bearer {team.key}"}
    with patient.Client(
        base_url=f"{team.service.url}/api/v1/teams/{team.slug}", headers=headers, timeout=60
    ) as client:
        yield client


def refused(answer: httpx.Response) -> dict[str, Any]:
    assert answer.status_code in (400, 413, 422), (answer.status_code, answer.text)
    assert answer.headers["content-type"] == "application/problem+json"
    problem: dict[str, Any] = answer.json()
    assert problem["detail"]
    return problem


def test_half_characters(http: httpx.Client, kb: str) -> None:
    bodies = [
        (f"/kbs/{kb}/written", '{"name": "a.md", "text": "x", "tags": {"a": "\\ud800"}}', "tags.a"),
        (f"/kbs/{kb}/written", '{"name": "a.md", "text": "\\udc00"}', "text"),
        ("/desks", '{"name": "Desk", "settings": {"purpose": "\\ud800"}}', "settings.purpose"),
        (
            f"/kbs/{kb}/sources",
            '{"name": "S", "kind": "push", "settings": {"x": "\\ud800"}}',
            "settings.x",
        ),
    ]
    for path, body, field in bodies:
        problem = refused(
            http.post(path, content=body, headers={"Content-Type": "application/json"})
        )
        assert problem["field"] == field
    form: dict[str, Any] = {"file": ("a.md", b"# A"), "tags": (None, '{"a": "\\ud800"}')}
    assert refused(http.post(f"/kbs/{kb}/documents", files=form))["field"] == "tags"


def test_content_that_is_not_base64(team: TeamSetup, kb: str) -> None:
    source = team.client.connect_source(kb, s.SourceIn(name="Pushed", kind="push", settings={}))
    for content in ("é", "=", "a", "a=a="):
        with pytest.raises(Invalid, match="not base64"):
            team.client.push_documents(kb, source.id, [s.PushedIn(id="1", content=content)])


def test_thousands_of_tags(http: httpx.Client, kb: str) -> None:
    many = {f"t{number}": "x" for number in range(3000)}
    for path, body in (
        (f"/kbs/{kb}/ask", {"question": "Who?", "tags": many}),
        (f"/kbs/{kb}/search", {"question": "Who?", "tags": many}),
        (f"/kbs/{kb}/documents/bulk", {"action": "delete", "chosen": {"tags": many}}),
        (f"/kbs/{kb}/documents/bulk", {"action": "tag", "chosen": {"all": True}, "set_tags": many}),
    ):
        assert "tags" in refused(http.post(path, json=body))["field"]
    query: list[tuple[str, str | int | float | bool | None]] = [
        ("tag", f"t{number}=x") for number in range(500)
    ]
    assert refused(http.get(f"/kbs/{kb}/documents", params=query))["field"] == "tag"


@pytest.mark.parametrize("moment", ["9999-12-31T23:59:59-23:59", "0001-01-01T00:00:00+23:59"])
def test_times_that_cannot_be(http: httpx.Client, moment: str) -> None:
    for path in ("/usage", "/usage/csv"):
        assert refused(http.get(path, params={"since": moment}))["field"] == "since"
        assert refused(http.get(path, params={"until": moment}))["field"] == "until"


def test_a_caller_s_wrong_settings_are_the_caller_s(http: httpx.Client, kb: str) -> None:
    removed = {"kind": "folder", "settings": {"path": "/" + "a" * 300}}
    assert refused(http.post(f"/kbs/{kb}/sources/check", json=removed))["field"].startswith(
        "settings"
    )
    pushed = {"kind": "push", "settings": {}}
    assert refused(http.post(f"/kbs/{kb}/sources/check", json=pushed))["field"] == "settings"


@pytest.mark.parametrize(
    "origin",
    [
        "https://a.example; script-src *",
        "https://a.example;",
        "https://a.example\nX: y",
        "https://a b.example",
        "*",
        "https://*",
        "javascript:alert(1)",
        "https://user@a.example",
        "https://a.example/path",
        "'none'",
        "https://a.example,https://b.example",
    ],
)
def test_frame_origins_are_origins(http: httpx.Client, origin: str) -> None:
    body = {"name": "Desk", "settings": {"frame_origins": [origin]}}
    assert "frame_origins" in refused(http.post("/desks", json=body))["field"]


def test_an_internationalised_origin_is_kept_in_ascii(team: TeamSetup, kb: str) -> None:
    settings = s.DeskSettings(
        kbs=[s.DeskKb(kb=kb)], frame_origins=["https://bücher.example/", "http://127.0.0.1:8080"]
    )
    desk = team.client.create_desk("Desk", settings)
    team.client.publish_desk(desk.id)
    page = patient.get(f"{team.service.url}/chat/{desk.id}")
    assert page.status_code == 200
    policy = page.headers["content-security-policy"]
    assert "frame-ancestors https://xn--bcher-kva.example http://127.0.0.1:8080" in policy
