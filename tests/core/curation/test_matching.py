"""Matching questions with approved answers."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.curation import ApprovedSet, ApprovedText, Match
from fontanel.core.curation.matching import names_the_same
from fontanel.core.embedding.encoder import OnnxEmbedder
from fontanel.core.evidence import EvidenceModel
from fontanel.core.text.analysis import analyser_of
from tests.conftest import EMBEDDER, EVIDENCE

ENTRIES = [
    ApprovedText(
        "wind",
        "Up to what wind may ships leave the outer berth?",
        ("How windy may it be for a departure?",),
        "Up to 28 knots from the north-east.",
    ),
    ApprovedText(
        "basin",
        "What is the speed limit in basin 14?",
        (),
        "In basin 14 boats go at 3 knots at most.",
    ),
    ApprovedText("gate", "When does the gate open?", (), "The gate opens at 6 in the morning."),
]


@pytest.fixture(scope="module")
def embedder() -> OnnxEmbedder:
    return OnnxEmbedder(EMBEDDER)


@pytest.fixture(scope="module")
def model() -> EvidenceModel:
    return EvidenceModel(EVIDENCE)


def matches(question: str, embedder: OnnxEmbedder, model: EvidenceModel) -> list[Match]:
    approved = ApprovedSet(ENTRIES, embedder.embed(ApprovedSet.texts(ENTRIES)))
    (vector,) = embedder.embed([question])
    return approved.matches(question, vector, analyser_of("en").terms, model.score)


@pytest.mark.parametrize(
    ("question", "expected"),
    [
        ("When is the gate opened?", "gate"),
        ("How fast may boats go in basin 14?", "basin"),
        ("Until which wind can a ship leave the outer berth?", "wind"),
    ],
)
def test_other_words_find_the_approved_answer(
    question: str, expected: str, embedder: OnnxEmbedder, model: EvidenceModel
) -> None:
    best, *others = matches(question, embedder, model)
    assert best.id == expected
    assert all(best.likelihood > other.likelihood for other in others)
    assert best.likelihood > 0.5


@pytest.mark.parametrize(
    "question",
    ["What is the speed limit in basin 21?", "How fast may boats go in basin 9?"],
)
def test_another_number_is_no_match(
    question: str, embedder: OnnxEmbedder, model: EvidenceModel
) -> None:
    assert "basin" not in {match.id for match in matches(question, embedder, model)}


@pytest.mark.parametrize(
    ("question", "wording", "answer", "same"),
    [
        ("The limit in basin 21?", "The limit in basin 14?", "3 knots", False),
        ("The limit there?", "The limit in basin 14?", "3 knots", True),
        ("Is 5 knots allowed in the basin?", "The limit in the basin?", "At most 5 knots", True),
        ("Is 9 knots allowed in the basin?", "The limit in the basin?", "At most 5 knots", False),
        ("What does work_mem do?", "What does wal_level do?", "It sets work_mem", False),
        ("What does E17 mean?", "What does e17 mean?", "The pump stopped", True),
    ],
)
def test_numbers_and_identifiers_are_the_same(
    question: str, wording: str, answer: str, *, same: bool
) -> None:
    assert names_the_same(question, wording, answer) is same


@given(st.text(min_size=1, max_size=200), st.sampled_from("?! .,"))
def test_equal_wording_always_matches(question: str, end: str) -> None:
    entries = [ApprovedText("own", question, (), "Yes.")]
    approved = ApprovedSet(entries, None)
    asked = question.upper() if question.upper().lower() == question.lower() else question
    found = approved.matches(asked + end, None, str.split, lambda q, w: None)
    assert [(match.id, match.likelihood) for match in found] == [("own", 1.0)]


def test_those_without_vectors_match_by_equal_wording(embedder: OnnxEmbedder) -> None:
    vectors = embedder.embed(ApprovedSet.texts(ENTRIES[:1]))
    approved = ApprovedSet(ENTRIES, vectors, 1)
    terms = analyser_of("en").terms
    for question, expected in (("when does the GATE open", ["gate"]), ("Opening of gates?", [])):
        (vector,) = embedder.embed([question])
        found = approved.matches(question, vector, terms, lambda q, w: None)
        assert [match.id for match in found if match.likelihood > 0.5] == expected
