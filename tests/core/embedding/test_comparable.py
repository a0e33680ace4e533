"""Cosines of other embedders on the scale of the built-in one."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.arrays import Floats
from fontanel.core.embedding.comparable import (
    PAIRS,
    REFERENCE,
    EmbedderUnfit,
    Scale,
    measure,
    scale_of,
)
from fontanel.core.embedding.encoder import OnnxEmbedder
from fontanel.simulators.embedder import vector_of
from tests.conftest import EMBEDDER


def embed(texts: Sequence[str]) -> Floats:
    return np.array([vector_of(text, 512) for text in texts], dtype=np.float32)


def shifted(texts: Sequence[str]) -> Floats:
    """Vectors that all have much in common, as those of some embedders."""
    vectors = embed(texts) + 0.8 * embed(["the same for all"])
    result: Floats = vectors / np.linalg.norm(vectors, axis=1, keepdims=True)
    return result


def test_the_reference_is_that_of_the_built_in_embedder() -> None:
    own = OnnxEmbedder(EMBEDDER)
    assert measure(own.embed, own.embed) == pytest.approx(REFERENCE, abs=0.005)
    scale = scale_of(own.embed, own.embed)
    assert scale.factor == pytest.approx(1.0, abs=0.02)
    assert scale.offset == pytest.approx(0.0, abs=0.01)


@pytest.mark.parametrize("other", [embed, shifted])
def test_pairs_and_other_texts_get_the_same_means(other: object) -> None:
    assert callable(other)
    scale = scale_of(other, other)
    questions, texts = (other([pair[side] for pair in PAIRS]) for side in (0, 1))
    cosines = scale.apply(questions @ texts.T)
    own = np.eye(len(PAIRS), dtype=bool)
    assert float(cosines[own].mean()) == pytest.approx(REFERENCE[0], abs=0.05)
    assert float(cosines[~own].mean()) == pytest.approx(REFERENCE[1], abs=0.02)


def test_an_embedder_that_tells_nothing_apart_is_unfit() -> None:
    def equal(texts: Sequence[str]) -> Floats:
        return embed(["the same"] * len(texts))

    with pytest.raises(EmbedderUnfit, match="no nearer to the texts that answer them"):
        scale_of(equal, equal)


@given(
    st.lists(st.floats(-1, 1, width=32), min_size=2),
    st.floats(0.1, 5),
    st.floats(-2, 2),
)
def test_the_order_stays_and_nothing_is_above_one(
    values: list[float], factor: float, offset: float
) -> None:
    cosines = np.array([*values, np.nan], dtype=np.float32)
    scaled = Scale(factor, offset).apply(cosines)
    assert np.isnan(scaled[-1])
    assert (scaled[:-1] <= 1.0).all()
    order = np.argsort(cosines[:-1], kind="stable")
    assert (np.diff(scaled[:-1][order]) >= 0).all()
