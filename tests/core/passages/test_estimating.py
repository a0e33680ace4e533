"""How much there is to embed, estimated."""

from __future__ import annotations

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.embedding.encoder import estimate_read_tokens
from fontanel.core.passages.estimating import estimate_texts
from fontanel.core.passages.fields import window_texts

#: A passage of several windows, and one of a single sentence.
TEXTS = st.lists(st.integers(0, 30), max_size=60)


def passage(number: int) -> tuple[str, str]:
    """Return a passage's text to embed and its text, of about `number % 12` sentences."""
    draw = random.Random(number)
    sentences = [
        " ".join(f"word{draw.randrange(5000)}" for _ in range(draw.randint(8, 30))).capitalize()
        + "."
        for _ in range(1 + number % 12)
    ]
    text = " ".join(sentences)
    return f"Heading {number}\n{text}", text


def counted(passages: list[tuple[str, str]], windows: bool) -> tuple[int, int]:
    texts = {
        one for whole, text in passages for one in (whole, *(window_texts(text) if windows else ()))
    }
    return len(texts), sum(estimate_read_tokens(list(texts)))


@given(TEXTS, st.booleans())
def test_few_passages_are_counted_exactly(numbers: list[int], windows: bool) -> None:
    passages = [passage(number) for number in numbers]
    assert estimate_texts(passages, len(passages), windows=windows) == counted(passages, windows)


@pytest.mark.parametrize("repeated", [1, 3])
def test_many_are_estimated_and_repeated_ones_count_once(repeated: int) -> None:
    passages = [passage(number) for number in range(6_000)] * repeated
    texts, tokens = estimate_texts(passages, len(passages), windows=True)
    assert (texts, tokens) == pytest.approx(counted(passages, True), rel=0.02)


def test_a_sample_of_the_passages_is_extrapolated() -> None:
    passages = [passage(number) for number in range(600)]
    texts, tokens = estimate_texts(passages, 6_000, windows=False)
    expected = [10 * one for one in counted(passages, False)]
    assert [texts, tokens] == pytest.approx(expected, rel=0.02)
