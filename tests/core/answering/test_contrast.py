"""Questions that compare two things."""

from __future__ import annotations

import pytest

from fontanel.core.answering import AnswerSettings, Finished, Outcome, answer
from fontanel.core.answering.composing.contrast import compared
from fontanel.core.embedding.encoder import OnnxEmbedder
from tests.conftest import EMBEDDER
from tests.core.documents import Documents

CARDS = b"""# Cards of the library

## Visitor card

A visitor card is valid for one day. Books may be read in the hall but not taken home.

## Member card

A member card is valid for a year. Six books may be taken home for three weeks.

## Opening hours

The library is open from 9:00 to 18:00.
"""


@pytest.mark.parametrize(
    ("question", "expected"),
    [
        ("Compare berth 2 with berth 4.", ("berth 2", "berth 4")),
        (
            "What is the difference between a visitor card and a member card?",
            ("visitor card", "member card"),
        ),
        ("How does a day ticket differ from a week ticket?", ("day ticket", "week ticket")),
        ("How do the north and the south quay differ?", ("north", "south quay")),
        ("North quay vs. south quay?", ("North quay", "south quay")),
        ("How does vacuum compare to analyze in speed?", ("vacuum", "analyze")),
        ("Which cards and books are there?", None),
        ("Is berth 2 longer than berth 4?", None),
    ],
)
def test_the_two_things_are_read(question: str, expected: tuple[str, str] | None) -> None:
    assert compared(question) == expected


def ask(question: str) -> Finished:
    knowledge = Documents(OnnxEmbedder(EMBEDDER), cards=CARDS)
    settings = AnswerSettings(evidence_needed=0.0)
    finished = list(answer(question, [], knowledge, settings))[-1]
    assert isinstance(finished, Finished)
    return finished


def test_both_are_quoted() -> None:
    result = ask("What is the difference between a visitor card and a member card?").answer
    assert "A visitor card is valid for one day" in result.text
    assert "A member card is valid for a year" in result.text
    assert {c.quote[:17] for c in result.citations} >= {"A visitor card is", "A member card is "}


def test_the_one_that_no_passage_mentions_is_named() -> None:
    result = ask("What is the difference between a member card and a ferry card?").answer
    assert result.outcome == Outcome.ANSWERED
    assert "A member card is valid for a year" in result.text
    assert result.text.endswith("None of the closest passages mentions ferry card.")
