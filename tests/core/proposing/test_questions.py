"""Questions that are made of sentences, lists, rows and headings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.answering.composing.statements import statements
from fontanel.core.answering.evidence import EvidencePassage
from fontanel.core.passages.splitting import Locator, PassagePart, split
from fontanel.core.proposing import propose
from fontanel.core.reading import read
from fontanel.facts import SplitSettings

NAMES = frozenset({"Pellwood", "Tangle"})


def words_of(texts: Sequence[str]) -> list[int]:
    return [len(text.split()) for text in texts]


def shown(
    text: str, title: str = "T", context: str = "", parts: tuple[PassagePart, ...] = ()
) -> EvidencePassage:
    return EvidencePassage(
        passage_id=0,
        document_id="d",
        revision_id="r",
        title=title,
        text=text,
        start=0,
        locator=Locator(()),
        match=0.0,
        similarity=None,
        context=context,
        parts=parts,
    )


def questions(text: str) -> list[str]:
    """Return the questions of a Markdown text."""
    reading = read(text.encode(), "rules.md")
    found = []
    for passage in split(reading, SplitSettings(), words_of):
        seen = shown(passage.text, reading.title, passage.context, tuple(passage.parts))
        seen = replace(seen, start=passage.start, locator=passage.locator)
        for one in propose(statements(seen), NAMES.__contains__):
            assert one.start < one.end
            assert one.answer
            found.append(one.question)
    return found


@pytest.mark.parametrize(
    ("sentence", "question"),
    [
        ("Shore power costs 0.31 crowns a kilowatt-hour.", "How much does shore power cost?"),
        ("Berth dues are 0.14 crowns for each ton.", "How much are berth dues?"),
        ("A ship may lie at a berth for 5 days.", "How long may a ship lie at a berth?"),
        ("Claims must be made within three months.", "When must claims be made?"),
        ("The fire alarm is tested every two weeks.", "How often is the fire alarm tested?"),
        ("Garbage is landed in the coloured skips.", "Where is garbage landed?"),
        ("Divers may work only when the flag is shown.", "When may divers work?"),
        ("Hull scraping in the water is not allowed.", "Is hull scraping in the water allowed?"),
        (
            "The connection is made by the harbour electrician.",
            "Who is the connection made by?",
        ),
        ("The berth has four vacuum pads.", "How many vacuum pads does the berth have?"),
        ("Tails of polyester are 11 metres long.", "How long are tails of polyester?"),
        ("A berth is a place at a quay where a ship lies.", "What is a berth?"),
        ("Pellwood pays 40 crowns a year.", "How much does Pellwood pay?"),
        ("The kiosk opens at 6:00.", "When does the kiosk open?"),
        ("Hot work needs a permit from the officer.", "What does hot work need?"),
        ("To book a berth, write to the duty office.", "How do I book a berth?"),
        (
            "If two pads lose their hold, an alarm sounds at once.",
            None,
        ),
        (
            "When the storm flag is hoisted, all cranes stop at once.",
            "What happens when the storm flag is hoisted?",
        ),
        ("2.3 Overtime must be agreed beforehand.", "Must overtime be agreed beforehand?"),
        ("The gang may refuse it.", None),
        ("This is a rule of the quay.", None),
        ("It costs 4 crowns.", None),
        ("Moderate private use is fine.", None),
    ],
)  # fmt: skip
def test_sentences_become_questions(sentence: str, question: str | None) -> None:
    found = questions(f"# Rules\n\n{sentence}\n")
    assert found == ([] if question is None else [question])


def test_lists_rows_and_headings_become_questions() -> None:
    text = """# Rules

## How do I report a leak?

Call the duty office first.

## Lines

Secure the ship as follows:

- Use lines of one kind.
- Keep winches on the brake.

The following papers are needed for a visit:

- a passport
- a letter

| Berth | Greatest length | Provided by |
| --- | --- | --- |
| Berth 2 | 95 metres | the Trust |
| Second berth | - | the Trust |
"""
    assert questions(text) == [
        "How do I report a leak?",
        "How do I secure the ship?",
        "Which papers are needed for a visit?",
        "What is the greatest length of Berth 2?",
    ]


@given(st.text(alphabet=st.sampled_from("AaBe .,;:()is may 3\n-|#?'"), max_size=200))
def test_any_text_can_be_asked_about(text: str) -> None:
    for one in propose(statements(shown(text)), NAMES.__contains__):
        assert one.question.endswith("?") or ":" in one.question
        assert 4 <= len(one.question.split()) <= 20
