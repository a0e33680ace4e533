"""The client of embedding servers, against the simulated one."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
import pytest

from fontanel.llm import Caller, CallFailed, EmbeddingClient, EmbeddingEndpoint
from fontanel.simulators.embedder import vector_of
from tests.conftest import free_port

TEXTS = ["Fresh water costs 3 crowns.", "The crane stops at 38 knots.", "Fresh water is cold."]


@pytest.fixture
def client() -> Iterator[EmbeddingClient]:
    caller = Caller()
    yield EmbeddingClient(caller)
    caller.close()


def endpoint(url: str, remote: str = "words") -> EmbeddingEndpoint:
    return EmbeddingEndpoint("test", url, remote, tries=1)


def test_vectors_come_in_order_in_batches(client: EmbeddingClient, embedding_server: str) -> None:
    texts = TEXTS * 5
    whole = client.embed(endpoint(embedding_server), texts)
    batches = client.embed(replace(endpoint(embedding_server), batch=2, at_once=3), texts)
    assert np.allclose(whole.vectors, batches.vectors)
    assert whole.vectors.dtype == np.float32
    assert np.allclose(np.linalg.norm(whole.vectors, axis=1), 1.0, atol=1e-5)
    assert np.allclose(whole.vectors[1], vector_of(TEXTS[1], 256), atol=1e-5)
    assert whole.tokens == batches.tokens > 60
    water, crane, cold = whole.vectors[:3]
    assert water @ cold > water @ crane


def test_vectors_are_cut_where_asked(client: EmbeddingClient, embedding_server: str) -> None:
    cut = replace(endpoint(embedding_server), dimensions=64, cut=True)
    assert client.embed(cut, TEXTS).vectors.shape == (3, 64)
    with pytest.raises(CallFailed, match="256 dimensions instead of 64"):
        client.embed(replace(cut, cut=False), TEXTS)


@pytest.mark.parametrize(
    ("remote", "message"),
    [
        ("failing", "answers with status 500"),
        ("busy", "asked too much"),
        ("short", "gives 2 vectors for 3 texts"),
        ("malformed", "cannot be read"),
        ("zero", "not numbers, or 0"),
        ("nothing", "no such model"),
    ],
)
def test_failures_are_said(
    client: EmbeddingClient, embedding_server: str, remote: str, message: str
) -> None:
    with pytest.raises(CallFailed, match=message):
        client.embed(endpoint(embedding_server, remote), TEXTS)


def test_a_busy_server_says_for_how_long(client: EmbeddingClient, embedding_server: str) -> None:
    with pytest.raises(CallFailed) as failed:
        client.embed(replace(endpoint(embedding_server, "busy"), tries=5), TEXTS)
    assert failed.value.after == 600.0
    assert not failed.value.refused


def test_a_limited_server_is_asked_again(client: EmbeddingClient, embedding_server: str) -> None:
    limited = replace(endpoint(embedding_server, "limited"), tries=3)
    assert client.embed(limited, TEXTS).vectors.shape == (3, 256)


def test_batches_that_differ_in_dimensions_are_refused(
    client: EmbeddingClient, embedding_server: str
) -> None:
    with pytest.raises(CallFailed, match="differ in their dimensions"):
        client.embed(replace(endpoint(embedding_server, "wrong"), batch=1), TEXTS)


def test_a_refused_text_is_told_from_a_server_that_is_away(
    client: EmbeddingClient, embedding_server: str
) -> None:
    with pytest.raises(CallFailed, match="too long") as refused:
        client.embed(endpoint(embedding_server, "picky"), [*TEXTS, "unembeddable"])
    assert refused.value.refused
    with pytest.raises(CallFailed, match="cannot be reached") as away:
        client.embed(endpoint(f"http://127.0.0.1:{free_port()}/v1"), TEXTS)
    assert not away.value.refused
