"""What a question asks for, and how far a statement holds it."""

from __future__ import annotations

import pytest

from fontanel.core.answering.question.shape import Shape, fit, has_shape, shape_of, small_talk


@pytest.mark.parametrize(
    ("question", "shape"),
    [
        ("When does the lock open?", Shape.TIME),
        ("How often is the chain measured?", Shape.TIME),
        ("How long must an application wait?", Shape.TIME),
        ("How many tugs are needed?", Shape.NUMBER),
        ("What is the maximum draught at Berth 2?", Shape.NUMBER),
        ("What does a dog cost?", Shape.NUMBER),
        ("Who closes the port?", Shape.PERSON),
        ("By whom is the lock kept?", Shape.PERSON),
        ("How do I lift a buoy?", Shape.STEPS),
        ("What should a master do when the engine fails?", Shape.STEPS),
        ("Which papers are needed?", Shape.LIST),
        ("What are the stages of the storm plan?", Shape.LIST),
        ("Where is the pump kept?", Shape.PLACE),
        ("Why is the valve shut?", Shape.REASON),
        ("May I bring a bicycle?", Shape.YES_NO),
        ("And is welding allowed?", Shape.YES_NO),
        ("storm stages", Shape.FACT),
    ],
)
def test_the_shape_of_a_question(question: str, shape: Shape) -> None:
    assert shape_of(question) == shape


@pytest.mark.parametrize(
    ("statement", "shape", "held"),
    [
        ("The lock opens at 09:00.", Shape.TIME, True),
        ("It took nine minutes and forty seconds.", Shape.TIME, True),
        ("The lock is green.", Shape.TIME, False),
        ("Two tugs are taken.", Shape.NUMBER, True),
        ("Tugs are taken.", Shape.NUMBER, False),
        ("The harbour master decides.", Shape.PERSON, True),
        ("It is decided.", Shape.PERSON, False),
        ("It is shut because of the tide.", Shape.REASON, True),
        ("Anything at all.", Shape.FACT, True),
    ],
)
def test_whether_a_statement_has_the_shape(statement: str, shape: Shape, held: bool) -> None:
    assert has_shape(statement, shape) is held


@pytest.mark.parametrize(
    ("question", "good", "poor"),
    [
        (
            "How many tugs does a ship of 120 metres take?",
            "A ship over 100 metres takes two tugs.",
            "It is 120 metres long.",
        ),
        (
            "What does a motorcycle cost?",
            "A motorcycle costs 14 crowns.",
            "A motorcycle is strapped down.",
        ),
        (
            "How much did Berth 4 take in dues?",
            "Berth 4; Ships: 12; Dues: 27905",
            "Berth 4 lies inside.",
        ),
        ("What colour is the buoy?", "The buoy is red.", "The buoy is large."),
        (
            "Who built the quay crane?",
            "Arden Yard built the quay crane.",
            "The duty officer starts the crane.",
        ),
        ("When does the lock open?", "It opens at 9:00.", "It opens."),
    ],
)
def test_what_holds_what_is_asked_fits_better(question: str, good: str, poor: str) -> None:
    shape = shape_of(question)
    assert fit(good, question, shape) == 1.0
    assert fit(poor, question, shape) < 1.0


@pytest.mark.parametrize(
    "text",
    ["Hello!", "good morning", "Thank you very much", "ok thanks", "What can you do?", "help"],
)
def test_small_talk_needs_no_documents(text: str) -> None:
    assert small_talk(text)


@pytest.mark.parametrize(
    "text",
    [
        "Hello, when does the lock open?",
        "Thanks to whom is the lock kept?",
        "help with mooring",
        "What is a berth?",
    ],
)
def test_a_question_is_no_small_talk(text: str) -> None:
    assert small_talk(text) is None
