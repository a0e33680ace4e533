"""The embedder: the graph against known properties, batches, missing files."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from fontanel.core.embedding.changes import merged
from fontanel.core.embedding.encoder import (
    EmbedderMissing,
    OnnxEmbedder,
    estimate_read_tokens,
    estimate_tokens,
    text_key,
)
from fontanel.core.embedding.model_file import prepare
from tests.conftest import EMBEDDER


@pytest.fixture(scope="module")
def embedder() -> OnnxEmbedder:
    return OnnxEmbedder(EMBEDDER)


def test_vectors_have_unit_length_and_like_meanings_are_near(embedder: OnnxEmbedder) -> None:
    vectors = embedder.embed(
        ["The ship may leave the quay.", "A vessel is allowed to depart.", "Cats like fish."]
    )
    assert vectors.shape == (3, embedder.dimensions)
    assert vectors.dtype == np.float32
    assert np.linalg.norm(vectors, axis=1) == pytest.approx(1.0, abs=1e-4)
    near, far = vectors[0] @ vectors[1], vectors[0] @ vectors[2]
    assert near > 0.5 > far


def test_a_vector_does_not_depend_on_other_texts(embedder: OnnxEmbedder) -> None:
    texts = [
        "short",
        "a much longer text about the outer berth and its limits in a north-easterly gale " * 5,
        "",
        "middle one here",
    ]
    alone = np.vstack([embedder.embed([text]) for text in texts])
    assert np.array_equal(embedder.embed(texts), alone)
    assert np.array_equal(OnnxEmbedder(EMBEDDER, threads=2).embed(texts[::-1]), alone[::-1])


def test_no_texts_and_long_texts(embedder: OnnxEmbedder) -> None:
    assert embedder.embed([]).shape == (0, embedder.dimensions)
    assert embedder.embed(["word " * 5000]).shape == (1, embedder.dimensions)
    assert embedder.count_tokens(["word " * 5000, ""]) == [5000, 0]


def test_a_directory_without_model_is_named(tmp_path: Path) -> None:
    with pytest.raises(EmbedderMissing, match=r"model\.onnx does not exist"):
        OnnxEmbedder(tmp_path)


def test_weights_that_are_not_there_are_named(tmp_path: Path) -> None:
    with pytest.raises(FileNotFoundError, match=r"config\.json"):
        prepare(tmp_path, tmp_path / "out")


def test_changes_replace_weights_and_add_products() -> None:
    base = {"a": np.ones((3, 2), np.float32), "b": np.zeros(2, np.float32)}
    left, right = np.full((3, 1), 2.0, np.float32), np.array([[1.0, -1.0]], np.float32)
    weights = merged(base, [{"a.left": left, "a.right": right}, {"b": np.ones(2, np.float32)}])
    assert weights["a"].tolist() == [[3.0, -1.0]] * 3
    assert weights["b"].tolist() == [1.0, 1.0]
    assert base["a"].tolist() == [[1.0, 1.0]] * 3


def test_keys_tell_embedders_and_texts_apart() -> None:
    keys = {text_key("a", "bc"), text_key("ab", "c"), text_key("a", "b")}
    assert len(keys) == 3


def test_tokens_can_be_estimated() -> None:
    assert estimate_tokens(["one two three", ""]) == [4, 0]
    assert estimate_read_tokens(["one two three", ""]) == [5, 2]
