"""Well-formed but odd input never gives a 500.

Bodies and queries from the schemas.
"""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

import httpx
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests import patient
from tests.conftest import STORM, Service, TeamSetup, new_team
from tests.seeds import OPENAPI
from tests.service.people.test_isolation import routes

#: Routes that end what the others need, or begin long work elsewhere.
_LEFT_OUT = {
    ("delete", "/api/v1/teams/{team}/kbs/{kb}"),
    ("post", "/api/v1/teams/{team}/kbs/{kb}/bulk"),
    ("patch", "/api/v1/teams/{team}"),
}
odd_text = st.one_of(
    st.text(max_size=60),
    st.sampled_from(
        [
            "",
            " ",
            "\x00",
            "../..",
            "'; --",
            "<b>",
            "%00",
            "null",
            "\u202e",
            "é" * 300,
            "0",
            "-1",
            "\ud83d\ude00",
            "a=b",
            "**/*",
        ]
    ),
)
odd_number = st.one_of(st.integers(-5, 50), st.sampled_from([0, -1, 10**6, 2**31, 2**63, -(2**63)]))


def resolved(schema: dict[str, Any]) -> dict[str, Any]:
    while "$ref" in schema:
        schema = OPENAPI["components"]["schemas"][schema["$ref"].rsplit("/", 1)[-1]]
    return schema


def shaped(schema: dict[str, Any], depth: int = 0) -> st.SearchStrategy[Any]:
    """Values of a schema's form, within its bounds or a little past them."""
    schema = resolved(schema)
    for several in ("anyOf", "oneOf"):
        if several in schema:
            return st.one_of([shaped(part, depth + 1) for part in schema[several]])
    if "const" in schema:
        return st.just(schema["const"])
    if "enum" in schema:
        return st.sampled_from(schema["enum"])
    kind = schema.get("type")
    if kind == "object":
        if depth > 4:
            return st.just({})
        parts = schema.get("properties", {})
        requested = set(schema.get("required", []))
        existing = st.fixed_dictionaries(
            {name: shaped(part, depth + 1) for name, part in parts.items() if name in requested},
            optional={
                name: shaped(part, depth + 1)
                for name, part in parts.items()
                if name not in requested
            },
        )
        more = schema.get("additionalProperties")
        return (
            st.dictionaries(odd_text, shaped(more, depth + 1), max_size=3)
            if isinstance(more, dict)
            else existing
        )
    if kind == "array":
        return st.lists(shaped(schema.get("items", {}), depth + 1), max_size=3)
    simple: dict[str, st.SearchStrategy[Any]] = {
        "integer": odd_number,
        "number": st.one_of(odd_number, st.floats(allow_nan=False, allow_infinity=False)),
        "boolean": st.booleans(),
        "null": st.none(),
        "string": odd_text,
    }
    return simple.get(str(kind), odd_text)


def body_of(operation: dict[str, Any]) -> dict[str, Any] | None:
    content = operation.get("requestBody", {}).get("content", {})
    schema: dict[str, Any] | None = content.get("application/json", {}).get("schema")
    return schema


WITH_JSON = [route for route in routes() if body_of(route[2]) and route[:2] not in _LEFT_OUT]
WITH_QUERY = [
    route
    for route in routes()
    if route[0] == "get"
    and "{team}" in route[1]
    and "/events" not in route[1]
    and any(parameter["in"] == "query" for parameter in route[2].get("parameters", []))
]


@pytest.fixture(scope="module")
def owner(service: Service) -> tuple[TeamSetup, httpx.Client, dict[str, str]]:
    """A team with one of everything, and what stands for each place in a path."""
    team = new_team(service)
    kb = team.client.create_kb("Rules")
    document = team.client.add_document(kb.slug, STORM, "storm.md", wait=True).document
    conversation = team.client.ask(
        kb.slug, "At what gust does the quay crane stop?"
    ).conversation_id
    places = {
        "team": team.slug,
        "kb": kb.slug,
        "document": document.id,
        "conversation": conversation or "",
        "number": "1",
        "page": "1",
    }
    http = patient.Client(
        base_url=service.url, headers={"Authorization": f"Bearer {team.key}"}, timeout=30
    )
    return team, http, places


def address(path: str, places: dict[str, str]) -> str:
    for name, value in places.items():
        path = path.replace(f"{{{name}}}", value)
    while "{" in path:
        path = path[: path.index("{")] + "nothing" + path[path.index("}") + 1 :]
    return path


def clean(value: Any) -> Any:
    """Without halves of characters, which no JSON in UTF-8 can hold."""
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode()
    if isinstance(value, list):
        return [clean(item) for item in value]
    if isinstance(value, dict):
        return {clean(key): clean(item) for key, item in value.items()}
    return value


def assert_answered(response: httpx.Response) -> None:
    assert response.status_code < 500, response.text
    if response.status_code >= 400:
        result = response.json()
        assert result["type"].startswith("urn:fontanel:problem:")
        assert result["title"]


@pytest.mark.parametrize(
    ("method", "path", "operation"), [pytest.param(*r, id=f"{r[0]} {r[1]}") for r in WITH_JSON]
)
@settings(max_examples=8, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_a_body_of_the_right_form_is_answered_or_refused(
    method: str,
    path: str,
    operation: dict[str, Any],
    data: st.DataObject,
    owner: tuple[TeamSetup, httpx.Client, dict[str, str]],
) -> None:
    _, http, places = owner
    schema = body_of(operation)
    assert schema is not None
    body = clean(data.draw(shaped(schema)))
    with http.stream(method, address(path, places), json=body) as response:
        response.read()
    assert_answered(response)


@pytest.mark.parametrize(
    ("method", "path", "operation"), [pytest.param(*r, id=r[1]) for r in WITH_QUERY]
)
@settings(max_examples=8, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_a_query_of_the_right_form_is_answered_or_refused(
    method: str,
    path: str,
    operation: dict[str, Any],
    data: st.DataObject,
    owner: tuple[TeamSetup, httpx.Client, dict[str, str]],
) -> None:
    _, http, places = owner
    query = []
    for parameter in operation["parameters"]:
        if parameter["in"] == "query" and data.draw(st.booleans()):
            value = clean(data.draw(shaped(parameter["schema"])))
            for one in value if isinstance(value, list) else [value]:
                query.append(f"{parameter['name']}={quote(str(one))}")
    response = http.request(method, f"{address(path, places)}?{'&'.join(query)}")
    if not response.is_success or "json" in response.headers.get("content-type", ""):
        assert_answered(response)


@pytest.mark.parametrize(
    ("method", "path"), [r[:2] for r in routes() if "{number}" in r[1] or "{page}" in r[1]]
)
@pytest.mark.parametrize("number", ["0", "-1", "1000001", str(2**63), str(10**400), "x", "1.5"])
def test_a_number_that_nothing_has_is_refused(
    method: str, path: str, number: str, owner: tuple[TeamSetup, httpx.Client, dict[str, str]]
) -> None:
    _, http, places = owner
    response = http.request(method, address(path, {**places, "number": number, "page": number}))
    assert_answered(response)
    assert response.status_code in (401, 403, 404, 422)


@pytest.mark.parametrize("query", [f"cursor={2**63}", f"cursor={2**80}", "cursor=-1"])
def test_a_place_in_a_list_that_cannot_be_is_refused_or_past_the_end(
    query: str, owner: tuple[TeamSetup, httpx.Client, dict[str, str]]
) -> None:
    _, http, places = owner
    assert_answered(
        http.get(
            address(
                f"/api/v1/teams/{{team}}/kbs/{{kb}}/documents/{{document}}/passages?{query}", places
            )
        )
    )
