"""Bad input never gives a 500, on any route."""

from __future__ import annotations

from typing import Any

import httpx
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests import patient
from tests.conftest import Service, TeamSetup, new_team
from tests.service.people.test_isolation import routes

json_values = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text(max_size=40),
    lambda inner: (
        st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=12), inner, max_size=4)
    ),
    max_leaves=8,
)
words = st.text(min_size=1, max_size=40).filter(
    lambda text: text not in (".", "..") and "/" not in text
)
WITH_BODY = [route for route in routes() if "requestBody" in route[2]]


@pytest.fixture(scope="module")
def owner(service: Service) -> tuple[TeamSetup, httpx.Client]:
    team = new_team(service)
    team.client.create_kb("Rules")
    return team, patient.Client(
        base_url=service.url, headers={"Authorization": f"Bearer {team.key}"}, timeout=30
    )


def address(path: str, team: str, value: str) -> str:
    """A route's path with the owner's team and knowledge base, and anything elsewhere."""
    path = path.replace("{team}", team).replace("{kb}", "rules")
    while "{" in path:
        start, end = path.index("{"), path.index("}")
        path = path[:start] + value + path[end + 1 :]
    return path


@pytest.mark.parametrize(
    ("method", "path", "operation"), [pytest.param(*r, id=f"{r[0]} {r[1]}") for r in WITH_BODY]
)
@settings(
    max_examples=15, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(body=json_values, value=words)
def test_any_json_is_answered_or_refused(
    method: str,
    path: str,
    operation: dict[str, Any],
    body: Any,
    value: str,
    owner: tuple[TeamSetup, httpx.Client],
) -> None:
    team, http = owner
    response = http.request(
        method, address(path, team.slug, value.encode("utf-8", "replace").hex()), json=body
    )
    assert response.status_code < 500, response.text
    if response.status_code >= 400:
        assert response.json()["type"].startswith("urn:fontanel:problem:")


@settings(
    max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(
    question=st.text(min_size=1, max_size=200),
    mode=st.sampled_from(["hybrid", "lexical", "vector"]),
)
def test_any_question_is_searched_and_answered(
    owner: tuple[TeamSetup, httpx.Client], question: str, mode: str
) -> None:
    team, http = owner
    question = question.encode("utf-8", "replace").decode()
    base = f"/api/v1/teams/{team.slug}/kbs/rules"
    assert http.post(f"{base}/search", json={"question": question, "mode": mode}).status_code == 200
    assert http.post(f"{base}/ask", json={"question": question}).status_code == 200


@settings(
    max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(name=st.text(max_size=60), tags=st.text(max_size=60))
def test_any_name_and_tags_are_taken_or_refused(
    owner: tuple[TeamSetup, httpx.Client], name: str, tags: str
) -> None:
    team, http = owner
    data = {
        "name": name.encode("utf-8", "replace").decode(),
        "tags": tags.encode("utf-8", "replace").decode(),
    }
    url = f"/api/v1/teams/{team.slug}/kbs/rules/documents"
    response = http.post(url, data=data, files={"file": ("file.md", b"# Note\n\nText.")})
    assert response.status_code in (202, 422), response.text
    if response.status_code == 202:
        assert ".." not in response.json()["document"]["name"].split("/")


@pytest.mark.parametrize(
    ("query", "status"),
    [
        ("limit=0", 422),
        ("limit=9999", 422),
        ("limit=x", 422),
        ("state=asleep", 422),
        ("cursor=%00", 200),
        ("tag=nonsense", 200),
        ("name=%25", 200),
    ],
)
def test_list_parameters_are_checked(
    owner: tuple[TeamSetup, httpx.Client], query: str, status: int
) -> None:
    team, http = owner
    assert http.get(f"/api/v1/teams/{team.slug}/kbs/rules/documents?{query}").status_code == status


def test_broken_forms_and_types_are_refused(owner: tuple[TeamSetup, httpx.Client]) -> None:
    team, http = owner
    url = f"/api/v1/teams/{team.slug}/kbs/rules/documents"
    for content, kind in (
        (b"nonsense", "multipart/form-data; boundary=b"),
        (b"{}", "application/json"),
        (b"", "text/plain"),
    ):
        response = http.post(url, content=content, headers={"Content-Type": kind})
        assert 400 <= response.status_code < 500
        assert response.headers["content-type"] == "application/problem+json"


def test_broken_json_is_named_with_its_place(team: TeamSetup) -> None:
    response = patient.post(
        f"{team.service.url}/api/v1/teams/{team.slug}/kbs",
        content=b'{"name": "Rules",, }',
        headers={"Authorization": f"Bearer {team.key}", "Content-Type": "application/json"},
    )
    problem = response.json()
    assert response.status_code == 422
    assert "not valid JSON, at character 17" in problem["detail"]
    assert problem["field"] is None
