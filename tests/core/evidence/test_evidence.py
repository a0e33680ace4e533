"""The evidence model: what it prefers, its cache, its weights' form, missing files."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from fontanel.core.evidence import EvidenceMissing, EvidenceModel, WindowText
from fontanel.core.evidence.model import UNSEEN
from fontanel.core.evidence.model_file import prepare
from tests.conftest import EVIDENCE

HARBOUR = WindowText(
    "Harbour by-laws > Speed",
    (
        "The harbour master signs the by-laws each spring.",
        "No vessel may exceed six knots inside the breakwater.",
        "Copies are sold at the office.",
    ),
)
KITCHEN = WindowText(
    "Kitchen rules", ("The oven is cleaned on Fridays.", "Knives stay in the rack.")
)


@pytest.fixture(scope="module")
def model() -> EvidenceModel:
    return EvidenceModel(EVIDENCE)


def test_the_window_and_the_statement_that_answer_score_highest(model: EvidenceModel) -> None:
    right, wrong = model.score("How fast may ships go in the harbour?", [HARBOUR, KITCHEN])
    assert right.relevance > wrong.relevance + 1
    assert int(np.argmax(right.statements)) == 1
    assert len(wrong.statements) == 2


def test_a_question_about_something_else_scores_lower(model: EvidenceModel) -> None:
    (asked,) = model.score("How fast may ships go in the harbour?", [HARBOUR])
    (other,) = model.score("What is the fine for going too fast?", [HARBOUR])
    assert asked.relevance > other.relevance


def test_neither_the_cache_nor_other_windows_change_a_score(model: EvidenceModel) -> None:
    question = "When is the oven cleaned?"
    together = model.score(question, [HARBOUR, KITCHEN, KITCHEN])
    assert together[1] == together[2]
    assert model.score(question, [KITCHEN]) == together[1:2]
    assert EvidenceModel(EVIDENCE).score(question, [KITCHEN]) == together[1:2]
    assert model.score(question, []) == []


def test_statements_behind_the_end_of_a_sequence_are_unseen(model: EvidenceModel) -> None:
    window = WindowText("", ("word " * 400, "The oven is cleaned on Fridays."))
    (score,) = model.score("When is the oven cleaned?", [window])
    assert score.statements[0] > UNSEEN == score.statements[1]


def test_missing_files_are_named(tmp_path: Path) -> None:
    with pytest.raises(EvidenceMissing, match=r"model\.onnx does not exist"):
        EvidenceModel(tmp_path)
    with pytest.raises(FileNotFoundError, match="no trained weights"):
        prepare(tmp_path, tmp_path / "out", tmp_path)
