"""Sentence boundaries."""

from __future__ import annotations

from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.text.sentences import sentence_spans


def sentences(text: str) -> list[str]:
    return [text[start:end] for start, end in sentence_spans(text)]


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("One. Two! Three?", ["One.", "Two!", "Three?"]),
        (
            "See fig. 3 and sec. 4.2 for details. Then go.",
            ["See fig. 3 and sec. 4.2 for details.", "Then go."],
        ),
        (
            "The limit is 1.5 m. From 3.2.1 on it is 2 m.",
            ["The limit is 1.5 m.", "From 3.2.1 on it is 2 m."],
        ),
        ("Use e.g. a rope. It holds.", ["Use e.g. a rope.", "It holds."]),
        ("Ropes, chains, etc. They hold.", ["Ropes, chains, etc.", "They hold."]),
        ("Dr. J. Lind was here. So was I.", ["Dr. J. Lind was here.", "So was I."]),
        ('He said "stop." Then he left.', ['He said "stop."', "Then he left."]),
        ("Das gilt z.B. nicht. Sonst schon.", ["Das gilt z.B. nicht.", "Sonst schon."]),
        ("何かあった。それだけ。", ["何かあった。", "それだけ。"]),
        ("No end", ["No end"]),
        (
            "According to 2. Mooring, ropes hold. See 4. Cranes lift.",
            ["According to 2. Mooring, ropes hold.", "See 4. Cranes lift."],
        ),
        (
            "According to Chapter 2. Mooring, ropes hold. See chapter 2. It tells all.",
            ["According to Chapter 2. Mooring, ropes hold.", "See chapter 2.", "It tells all."],
        ),
        ("1. Call the keeper. 2. Wait.", ["1. Call the keeper.", "2. Wait."]),
        ("The limit rose to 2. Cranes stop.", ["The limit rose to 2.", "Cranes stop."]),
        ("It opens at 6 a.m. Ships wait.", ["It opens at 6 a.m.", "Ships wait."]),
        ("", []),
    ],
)
def test_known_boundaries(text: str, expected: list[str]) -> None:
    assert sentences(text) == expected


@given(st.text(max_size=300))
def test_sentences_cover_all_but_white_space(text: str) -> None:
    spans = sentence_spans(text)
    assert "".join("".join(text[a:b].split()) for a, b in spans) == "".join(text.split())
    assert all(a < b for a, b in spans)
    assert all(first[1] <= second[0] for first, second in pairwise(spans))
