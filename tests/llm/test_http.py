"""What servers of models say when they fail."""

from __future__ import annotations

import json

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.llm import http


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b'{"error": {"message": "The key is wrong."}}', "The key is wrong."),
        (b'{"error": "No such model."}', "No such model."),
        (b'{"message": "Too\\nlong."}', "Too long."),
        (b'{"error": {"code": 7}}', "{'code': 7}"),
        (b"<html>Bad   gateway</html>", "<html>Bad gateway</html>"),
        (b"\xff\xfe", "��"),
        (b"", ""),
        (b"[1, 2]", "[1, 2]"),
    ],
)
def test_the_message_of_an_error_is_found(content: bytes, said: str) -> None:
    assert http.said(content) == said


@given(st.binary(max_size=400))
def test_any_body_gives_one_line(content: bytes) -> None:
    assert "\n" not in http.said(content)


@given(st.recursive(st.none() | st.booleans() | st.text() | st.integers(), st.lists, max_leaves=5))
def test_any_json_gives_one_line(value: object) -> None:
    for body in (value, {"error": value}, {"error": {"message": value}}):
        assert "\n" not in http.said(json.dumps(body).encode())


@pytest.mark.parametrize(
    ("header", "seconds"),
    [("3", 3.0), ("0.5", 0.5), ("-2", 0.0), ("Wed, 21 Oct 2031 07:28:00 GMT", None), (None, None)],
)
def test_a_server_says_for_how_long_to_wait(header: str | None, seconds: float | None) -> None:
    headers = {} if header is None else {"Retry-After": header}
    assert http.retry_after(httpx.Response(429, headers=headers)) == seconds


def test_reasons_name_what_to_do_about() -> None:
    assert http.refused(401, "x") == http.refused(403, "") == "it refuses the secret"
    assert http.refused(404, "") == "there is no such model at its server"
    assert http.refused(400, "Too long.") == "it refuses with status 400: Too long."
    assert http.refused(418, "") == "it refuses with status 418"
    assert http.temporary(429) == "it is asked too much"
    assert http.temporary(503) == "its server answers with status 503"
    assert "models.example" in http.away("https://models.example:8471/v1")
    assert {429, 500, 503} <= http.TRANSIENT
    assert not {400, 401, 403, 404, 422} & http.TRANSIENT
