"""The simulated models and embedders, as a client of their protocols sees them."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import httpx
import pytest

from fontanel.simulators.behaviours import EMBEDDERS, MODELS
from fontanel.simulators.embedder import embedder_app
from tests import patient
from tests.conftest import free_port
from tests.servers import served_on

PASSAGE = (
    "<passage>\nStorm plan > Cranes\n\nThe quay crane stops at a gust of 38 knots. Ask the officer."
    " All masters must report the wind.\n</passage>"
)


@pytest.fixture(scope="module")
def vectors() -> Iterator[httpx.Client]:
    with (
        served_on(embedder_app(dimensions=96, key="tide"), free_port()) as url,
        httpx.Client(base_url=url, headers={"Authorization": "Bearer tide"}, timeout=60) as client,
    ):
        yield client


def embed(client: httpx.Client, texts: list[str], **more: object) -> httpx.Response:
    return client.post("/embeddings", json={"model": "words", "input": texts, **more})


def test_vectors_follow_the_protocol(vectors: httpx.Client) -> None:
    texts = ["The lock opens at six.", "The lock opened at six.", "Fares are paid on board."]
    body = embed(vectors, texts).json()
    assert [entry["index"] for entry in body["data"]] == [0, 1, 2]
    assert {len(entry["embedding"]) for entry in body["data"]} == {96}
    assert body["usage"]["prompt_tokens"] == body["usage"]["total_tokens"] == 24
    opens, opened, fares = (entry["embedding"] for entry in body["data"])
    near, far = (sum(a * b for a, b in zip(opens, one, strict=True)) for one in (opened, fares))
    assert near > 0.9
    assert far < near
    assert embed(vectors, texts).json() == body
    cut = embed(vectors, texts, dimensions=64).json()["data"][0]["embedding"]
    assert len(cut) == 64


@pytest.mark.parametrize(
    ("model", "status"),
    [
        ("words", 200),
        ("wrong", 200),
        ("short", 200),
        ("zero", 200),
        ("equal", 200),
        ("malformed", 200),
        ("failing", 500),
        ("busy", 429),
        ("nothing", 404),
    ],
)
def test_each_name_behaves_as_it_says(vectors: httpx.Client, model: str, status: int) -> None:
    assert embed(vectors, ["one", "two"], model=model).status_code == status


def test_what_is_not_a_request_is_refused(vectors: httpx.Client) -> None:
    assert vectors.post("/embeddings", content=b"{").status_code == 400
    assert vectors.post("/embeddings", json={"model": "words"}).status_code == 400
    wrong = vectors.post(
        "/embeddings", json={"input": ["x"]}, headers={"Authorization": "Bearer no"}
    )
    assert wrong.status_code == 401
    assert embed(vectors, ["an unembeddable text"], model="picky").status_code == 400
    assert embed(vectors, ["a text"], model="picky").status_code == 200


def test_every_behaviour_is_described() -> None:
    assert all(MODELS.values())
    assert all(EMBEDDERS.values())
    assert {"failing", "busy", "limited", "malformed", "slow"} <= set(EMBEDDERS) & set(MODELS)


def proposed(url: str, model: str) -> list[dict[str, Any]]:
    body = {"model": model, "messages": [{"role": "user", "content": PASSAGE}]}
    text = patient.post(f"{url}/chat/completions", json=body).json()["choices"][0]["message"]
    return [json.loads(line) for line in text["content"].splitlines()]


def test_a_model_proposes_questions_with_quotes(model_server: str) -> None:
    honest = proposed(model_server, "honest")
    assert len(honest) == 2
    assert all(one["quote"] in PASSAGE for one in honest)
    assert all(one["question"].endswith("?") for one in honest)
    assert "38" not in honest[0]["question"]
    assert all(one["quote"] not in PASSAGE for one in proposed(model_server, "lying"))
