"""Questions of several parts."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.answering import AnswerSettings, Finished, Outcome, answer
from fontanel.core.answering.findings import all_passages, find
from fontanel.core.answering.question.parts import MAX_PARTS, QuestionPart, question_parts
from fontanel.core.answering.trace import Trace
from fontanel.core.embedding.encoder import OnnxEmbedder
from fontanel.core.text.analysis import analyser_of
from tests.conftest import EMBEDDER
from tests.core.documents import Documents

TUGS = b"""# Tugs

Ships above 90 metres must take a tug when they enter.

# Dues

The agent of the ship pays the tug within 30 days.

# Visitors

Visitors sign the book at the gate.
"""


def parts(question: str) -> tuple[QuestionPart, ...]:
    return question_parts(question, analyser_of("en").terms)


@pytest.mark.parametrize(
    ("question", "expected"),
    [
        (
            "Which ships must take a tug, and who pays?",
            [
                "Which ships must take a tug?",
                "Who pays? (following on from: Which ships must take a tug?)",
            ],
        ),
        (
            "Does the ferry take bicycles and how much does it cost?",
            [
                "Does the ferry take bicycles?",
                "How much does it cost? (following on from: Does the ferry take bicycles?)",
            ],
        ),
        (
            "Is a permit needed for the crane? What does a permit for the boat lift cost?",
            ["Is a permit needed for the crane?", "What does a permit for the boat lift cost?"],
        ),
        ("Are cats and dogs allowed?", ["Are cats and dogs allowed?"]),
        (
            "How many lines and what size may a file have?",
            ["How many lines and what size may a file have?"],
        ),
        ("Is the gate shut at night and when it rains?",) * 2,
        ("We moved in on Monday. Who empties the bins here?",) * 2,
        (
            "We moved in. Who empties the bins? Is there a charge for boxes? We have many.",
            ["We moved in. Who empties the bins?", "Is there a charge for boxes? We have many."],
        ),
        ("How deep is it? (following on from: Where is berth 4?)",) * 2,
    ],
)
def test_a_question_is_split_into_what_it_asks(question: str, expected: list[str] | str) -> None:
    wanted = [expected] if isinstance(expected, str) else expected
    assert [part.text for part in parts(question)] == wanted


def test_a_part_is_searched_with_the_topic_of_the_first() -> None:
    assert [part.query for part in parts("Which ships must take a tug, and who pays?")] == [
        "Which ships must take a tug?",
        "Who pays? (ships take tug)",
    ]


@pytest.mark.parametrize(
    ("question", "names"),
    [
        (
            "What does the code E17 mean, and who resets it?",
            ["What does the code E17 mean?", "What does the code E17 mean? Who resets it?"],
        ),
        (
            "What does the code E17 mean, and which lamp blinks when the pump has stopped?",
            ["What does the code E17 mean?", "Which lamp blinks when the pump has stopped?"],
        ),
    ],
)
def test_a_part_needs_the_names_that_it_refers_to(question: str, names: list[str]) -> None:
    assert [part.names for part in parts(question)] == names


@given(st.text(max_size=300), st.integers(0, 5))
def test_any_text_has_parts(text: str, repeats: int) -> None:
    found = parts(text + ", and who pays the ship?" * repeats)
    assert 1 <= len(found) <= MAX_PARTS


@pytest.mark.parametrize(
    ("question", "expected"),
    [
        (
            "Which ships must take a tug when they enter, and within how many days is it paid?",
            "Ships above 90 metres must take a tug when they enter.\n\n"
            "The agent of the ship pays the tug within 30 days.",
        ),
        (
            "Which ships must take a tug when they enter, and who painted the lighthouse pink?",
            "Ships above 90 metres must take a tug when they enter.\n\n"
            "The documents do not answer: Who painted the lighthouse pink?",
        ),
    ],
)
def test_parts_are_answered_one_by_one(question: str, expected: str) -> None:
    documents = Documents(OnnxEmbedder(EMBEDDER), tugs=TUGS)
    events = list(answer(question, [], documents, AnswerSettings(evidence_needed=0.4)))
    (result,) = (event.answer for event in events if isinstance(event, Finished))
    assert result.outcome == Outcome.ANSWERED
    assert result.text == expected
    for number, citation in enumerate(result.citations, 1):
        assert citation.number == number
        assert citation.quote in result.text[citation.answer_start : citation.answer_end]


def test_the_best_passages_of_each_part_come_first() -> None:
    documents = Documents(OnnxEmbedder(EMBEDDER), tugs=TUGS)
    found = [
        find(part, documents, AnswerSettings(), Trace())
        for part in parts("Which ships must take a tug, and who pays the tug?")
    ]
    best = [finding.passages[0].passage_id for finding in found]
    assert [passage.passage_id for passage in all_passages(found)][:2] == best
