"""The example questions of the documentation, of the demo and of its desks, word for word."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from tests.conftest import DOCUMENTS, TeamSetup

ROOT = Path(__file__).parents[2]
MARINE, PASSENGERS = "marine-operations", "passenger-services"
#: The words of the demo's recording, as its transcriber returns them.
SPOKEN = "recordings"
#: Each example question: the folder that it is asked of, and what the answer must say.
EXPECTED = {
    "Who closes the port?": (MARINE, "The harbour master alone closes and opens the port."),
    "What is the wind limit for leaving the outer berth?": (
        MARINE,
        "Departure from the outer berth is permitted up to a mean wind of 28 knots from the"
        " north-east, reduced to 22 knots when swell at the mole head exceeds 1.5 m.",
    ),
    "And from other directions?": (MARINE, "From other directions the limit is 32 knots."),
    "Which channel does the lock keeper answer on?": (
        MARINE,
        "Call the lock keeper on channel 71 when you pass the mole.",
    ),
    "What do I do when I see oil on the water?": (MARINE, "2. Call the duty office on 555 0119."),
    "Can I bring my dog?": (PASSENGERS, "Dogs travel for 6 crowns"),
    "What does a motorcycle cost?": (PASSENGERS, "14 crowns"),
    "Until when is fresh water cut off at the visitors' pontoon?": (
        SPOKEN,
        "Fresh water at the visitors' pontoon is cut off until Friday noon, because a pipe is"
        " repaired.",
    ),
}
#: A follow-up, and the question that it is asked after.
FOLLOWS = {"And from other directions?": "What is the wind limit for leaving the outer berth?"}
#: Examples about other documents: those of the demo's live sources, and a placeholder.
ELSEWHERE = {"question", "What is the speed limit in the small craft basin?"}
_ASKED = re.compile(r"fontanel ask\b[^\n#|]*?(?:\"\s*'\s*')?\"([^\"]+)\"")


def examples() -> set[str]:
    """Return the questions that the documentation and the demo ask."""
    files = [ROOT / "README.md", *(ROOT / "docs").glob("*.md"), ROOT / "demo" / "run.py"]
    # A command in the demo may be cut into two strings.
    texts = [re.sub(r"'\n\s*'", "", file.read_text()) for file in files]
    asked = {question for text in texts for question in _ASKED.findall(text)}
    desks = (ROOT / "demo" / "desks.py").read_text()
    lists = re.findall(r"first_questions=\[(.*?)\]", desks, re.S)
    return asked | {question for text in lists for question in re.findall(r'"([^"]+)"', text)}


def test_every_example_has_an_expected_answer() -> None:
    assert examples() - ELSEWHERE <= set(EXPECTED)
    assert len(examples() & set(EXPECTED)) >= len(EXPECTED) - 1


# Tests of the module need not run one after the other; the team is there for the whole session.
@pytest.fixture(scope="session")
def kbs(marine: tuple[TeamSetup, str]) -> dict[str, tuple[TeamSetup, str]]:
    team, slug = marine
    other = team.client.create_kb("Passenger services").slug
    for path in sorted((DOCUMENTS / PASSENGERS).iterdir()):
        team.client.add_document(other, path)
    for document in list(team.client.list_documents(other)):
        assert team.client.wait_for_document(other, document.id).state == "indexed"
    spoken = team.client.create_kb("Spoken notices").slug
    transcript = ROOT / "demo" / "recordings" / "visitors-pontoon.vtt"
    team.client.add_document(spoken, transcript, wait=True)
    return {MARINE: (team, slug), PASSENGERS: (team, other), SPOKEN: (team, spoken)}


@pytest.mark.parametrize("question", EXPECTED)
def test_examples_are_answered_with_their_statement(
    kbs: dict[str, tuple[TeamSetup, str]], question: str
) -> None:
    folder, statement = EXPECTED[question]
    team, kb = kbs[folder]
    before = FOLLOWS.get(question)
    conversation = team.client.ask(kb, before).conversation_id if before else None
    answer = team.client.ask(kb, question, conversation=conversation)
    assert answer.outcome == "answered"
    text = " ".join(answer.text.split())
    assert statement in text
    assert answer.citations
