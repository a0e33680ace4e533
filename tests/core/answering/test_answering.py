"""Answering: routing, follow-ups, choosing, citing, declining."""

from __future__ import annotations

from collections.abc import Sequence

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.answering import (
    Answer,
    AnswerSettings,
    Approval,
    ApprovedAnswer,
    ApprovedFound,
    Choice,
    CitationBound,
    EvidenceFound,
    Exchange,
    Finished,
    Knowledge,
    Outcome,
    Started,
    TextPiece,
    Trace,
    answer,
)
from fontanel.core.answering.composing.statements import row_text, statements
from fontanel.core.answering.question.followup import (
    search_form,
    split_search_form,
    split_stand_alone,
    stand_alone,
)
from fontanel.core.answering.question.shape import Shape, has_shape, shape_of, small_talk
from fontanel.core.answering.writing.verify import support
from fontanel.core.embedding.encoder import OnnxEmbedder
from fontanel.core.text.analysis import Analyser
from tests.conftest import EMBEDDER, STORM
from tests.core.documents import Documents

LOCK = b"""# Lock

## Passing

Before you enter, do this:

1. Call the keeper on channel 71.
2. Wait until the light is green.
3. Enter at no more than 2 knots.

## Opening

The lock works from 06:00 to 22:00. It is shut on 25 December.

## Old rules (superseded)

The lock worked from 08:00 to 18:00 until 2019.
"""


@pytest.fixture(scope="module")
def embedder() -> OnnxEmbedder:
    return OnnxEmbedder(EMBEDDER)


def asked(
    documents: Documents, question: str, history: Sequence[Exchange] = (), floor: float = 0.0
) -> Answer:
    events = list(answer(question, history, documents, AnswerSettings(evidence_needed=floor)))
    assert isinstance(events[-1], Finished)
    return events[-1].answer


def test_events_come_in_order_and_make_up_the_answer(embedder: OnnxEmbedder) -> None:
    events = list(
        answer(
            "At what gust does the quay crane stop?",
            [],
            Documents(embedder, storm=STORM),
            AnswerSettings(evidence_needed=0),
        )
    )
    kinds = [type(event) for event in events]
    assert kinds[:2] == [Started, EvidenceFound]
    assert kinds.index(EvidenceFound) < kinds.index(TextPiece) < kinds.index(CitationBound)
    finished = events[-1]
    assert isinstance(finished, Finished)
    assert (
        "".join(event.text for event in events if isinstance(event, TextPiece))
        == finished.answer.text
    )
    assert (
        tuple(event.citation for event in events if isinstance(event, CitationBound))
        == finished.answer.citations
    )


@pytest.mark.parametrize(
    "question",
    [
        "At what gust does the quay crane stop?",
        "How long is Berth 4?",
        "Who decides above the limit?",
    ],
)
def test_every_citation_is_to_the_letter(embedder: OnnxEmbedder, question: str) -> None:
    documents = Documents(embedder, storm=STORM, lock=LOCK)
    result = asked(documents, question)
    assert result.outcome == Outcome.ANSWERED
    covered = 0
    for citation in result.citations:
        assert (
            documents.texts[citation.revision_id][citation.start : citation.end] == citation.quote
        )
        assert result.text[covered : citation.answer_start].strip() == ""
        assert citation.answer_start < citation.answer_end
        assert citation.support == 1.0
        covered = citation.answer_end
    assert covered == len(result.text)


def test_a_table_row_is_said_with_its_column_names(embedder: OnnxEmbedder) -> None:
    result = asked(Documents(embedder, storm=STORM), "What is the depth of Berth 4?")
    assert "Berth 4; Length: 120 m; Depth: 6.8 m" in result.text


def test_steps_come_whole_with_their_lead_in(embedder: OnnxEmbedder) -> None:
    result = asked(Documents(embedder, lock=LOCK), "How do I enter the lock?")
    assert result.text.split("\n") == [
        "Before you enter, do this:",
        "1. Call the keeper on channel 71.",
        "2. Wait until the light is green.",
        "3. Enter at no more than 2 knots.",
    ]
    assert len(result.citations) == 1


def test_a_sentence_with_a_pronoun_brings_the_one_before(embedder: OnnxEmbedder) -> None:
    result = asked(Documents(embedder, lock=LOCK), "Is it shut on 25 December?")
    assert result.text.startswith(
        "Yes. The lock works from 06:00 to 22:00. It is shut on 25 December."
    )


def test_a_superseded_text_stands_back_unless_it_is_asked_for(embedder: OnnxEmbedder) -> None:
    documents = Documents(embedder, lock=LOCK)
    assert asked(documents, "When does the lock work?").text.startswith("The lock works from 06:00")
    assert asked(
        documents, "When did the previous rules say the lock worked until 2019?"
    ).text.startswith("The lock worked from 08:00")


def test_without_vectors_words_alone_find_the_answer() -> None:
    result = asked(Documents(None, storm=STORM, lock=LOCK), "gust quay crane pinned")
    assert result.text == "The quay crane stops at a gust of 38 knots and is pinned at 44 knots."


def test_below_the_floor_the_answer_declines_and_shows_what_is_near(embedder: OnnxEmbedder) -> None:
    result = asked(Documents(embedder, storm=STORM), "Which wine goes with herring?", floor=0.5)
    assert result.outcome == Outcome.DECLINED
    assert result.citations == ()
    assert result.evidence


def test_nothing_indexed_is_said(embedder: OnnxEmbedder) -> None:
    result = asked(Documents(embedder), "Anything?")
    assert result.outcome == Outcome.DECLINED
    assert "nothing to answer from" in result.text


@pytest.mark.parametrize(
    "question",
    ["Hello!", "good morning", "Thanks a lot", "ok, thank you", "What can you do?", "help"],
)
def test_small_talk_needs_no_documents(embedder: OnnxEmbedder, question: str) -> None:
    assert asked(Documents(embedder), question).outcome == Outcome.SMALL_TALK


@pytest.mark.parametrize(
    "question", ["Hello, when does the lock open?", "How do I thank a pilot?", "help with mooring"]
)
def test_a_question_that_greets_is_no_small_talk(question: str) -> None:
    assert small_talk(question) is None


@pytest.mark.parametrize(
    ("question", "shape"),
    [
        ("How many pilots are there?", Shape.NUMBER),
        ("What is the speed limit?", Shape.NUMBER),
        ("When does it open?", Shape.TIME),
        ("How long are recordings kept?", Shape.TIME),
        ("Who decides?", Shape.PERSON),
        ("Where is the office?", Shape.PLACE),
        ("How do I secure the ship?", Shape.STEPS),
        ("Why is it closed?", Shape.REASON),
        ("May dogs travel free?", Shape.YES_NO),
        ("What is a berth?", Shape.FACT),
    ],
)
def test_shapes(question: str, shape: Shape) -> None:
    assert shape_of(question) == shape


def test_a_statement_fits_the_shape_or_does_not() -> None:
    assert has_shape("It costs 6 crowns.", Shape.NUMBER)
    assert not has_shape("It costs little.", Shape.NUMBER)
    assert has_shape("The duty officer decides.", Shape.PERSON)
    assert has_shape("Anything goes.", Shape.FACT)


TERMS = Analyser("en").terms
HISTORY = [Exchange("How long is Tangle Lock?", "How long is Tangle Lock?", ("Lock notes",))]


@pytest.mark.parametrize(
    ("question", "expected"),
    [
        ("And when do they open?", "When do they open? (long Tangle Lock)"),
        ("What about the bridge?", "The bridge? (long Tangle Lock)"),
        ("How wide?", "How wide? (long Tangle Lock)"),
    ],
)
def test_follow_ups_are_shown_with_the_question_before(question: str, expected: str) -> None:
    shown = stand_alone(question, HISTORY, TERMS)
    assert shown == f"{question} (following on from: How long is Tangle Lock?)"
    assert split_stand_alone(shown) == (question, "How long is Tangle Lock?")
    assert search_form(shown, TERMS) == expected
    # A further one follows on from the same question.
    later = stand_alone("Why is that?", [*HISTORY, Exchange(question, shown)], TERMS)
    assert later == "Why is that? (following on from: How long is Tangle Lock?)"


@pytest.mark.parametrize(
    "question",
    [
        "Which channel does the duty office listen on?",
        "Is it possible to book a berth by telephone?",
    ],
)
def test_whole_questions_stay_as_they_are(question: str) -> None:
    assert stand_alone(question, HISTORY, TERMS) == question
    assert stand_alone("And at night?", [], TERMS) == "And at night?"


@pytest.mark.parametrize(
    ("before", "question", "whole"),
    [
        (
            "Which ships must take a tug when entering?",
            "and at night?",
            "Which ships must take a tug when entering at night?",
        ),
        (
            "What is the wind limit for leaving the outer berth?",
            "And for the ferry berth?",
            "What is the wind limit for leaving the ferry berth?",
        ),
        ("How deep is berth 2?", "And berth 4?", "How deep is berth 4?"),
        ("How deep is berth 2?", "what about berth 4", "How deep is berth 4?"),
        (
            "Up to what wind does the ferry Hollin sail?",
            "And for Merrow?",
            "Up to what wind does the ferry Merrow sail?",
        ),
        ("Is the lock open in summer?", "And in winter?", "Is the lock open in winter?"),
        (
            "May dogs travel free?",
            "And without a ticket?",
            "May dogs travel free without a ticket?",
        ),
        ("Who pays for the tug?", "And for waste?", "Who pays for waste?"),
        ("When does the lock open?", "And on Sundays?", "When does the lock open on Sundays?"),
        (
            "When does the lock open on Saturdays?",
            "And on Sundays?",
            "When does the lock open on Sundays?",
        ),
        (
            "Which ships must take a tug when entering by day?",
            "And at night?",
            "Which ships must take a tug when entering at night?",
        ),
        (
            "When does the bus run before noon?",
            "And after noon?",
            "When does the bus run after noon?",
        ),
        (
            "What is charged for a stay during the summer?",
            "And in winter?",
            "What is charged for a stay in winter?",
        ),
        (
            "When does the ferry to Skerrow leave?",
            "And Aldmouth?",
            "When does the ferry to Aldmouth leave?",
        ),
        ("May I weld on deck?", "With a permit?", "May I weld on deck with a permit?"),
        (
            "What is the depth of berth 4 at low water?",
            "What about berth 9?",
            "What is the depth of berth 9 at low water?",
        ),
        (
            "Who may walk on the north pier?",
            "And on the south pier?",
            "Who may walk on the south pier?",
        ),
    ],
)
def test_elliptic_follow_ups_become_whole_questions(before: str, question: str, whole: str) -> None:
    assert stand_alone(question, [Exchange(before, before)], TERMS) == whole
    assert search_form(whole, TERMS) == whole


@pytest.mark.parametrize(
    ("before", "question", "titles", "whole"),
    [
        ("How long is Tangle Lock?", "And when does it open?", (), "When does Tangle Lock open?"),
        (
            "Who can have an islander card?",
            "What does it cost?",
            ("Fares",),
            "What does the islander card cost?",
        ),
        ("Where is the pump house?", "Who has its key?", (), "Who has the pump house’s key?"),
        (
            "What is the Islander card?",
            "What does it cost?",
            (),
            "What does the Islander card cost?",
        ),
        (
            "Who collects the harbour fee?",
            "When is it paid?",
            (),
            "When is the harbour fee paid?",
        ),
        ("Where does Hollin meet the tug?", "How long is it?", (), None),
        (
            "Which forms are needed?",
            "Who signs it?",
            ("Waste notice", "Waste notice"),
            "Who signs “Waste notice”?",
        ),
        ("Which forms are needed?", "Who signs it?", ("Waste notice", "Fares"), None),
        ("How fast may the pilot boat leave?", "Is it heavy?", (), None),
        ("What is the depth of Berth 4?", "How long is it?", (), None),
        ("Where is the pump house?", "Is it allowed to enter?", (), None),
        ("Where do the cranes stand?", "When does it rain there?", (), None),
    ],
)
def test_it_is_replaced_by_the_only_thing_that_was_named(
    before: str, question: str, titles: tuple[str, ...], whole: str | None
) -> None:
    shown = stand_alone(question, [Exchange(before, before, titles)], TERMS)
    assert shown == (whole or f"{question} (following on from: {before})")


@pytest.mark.parametrize(
    ("before", "question"),
    [
        ("Which ships must take a tug, and who pays?", "And at night?"),
        ("How deep is the outer berth?", "And berth 4?"),
        ("What does Hollin offer at Skerrow?", "And for Merrow?"),
        ("Tug rules", "And at night?"),
        ("What does a bicycle cost?", "What about electric ones?"),
    ],
)
def test_what_no_rule_makes_whole_follows_on(before: str, question: str) -> None:
    shown = stand_alone(question, [Exchange(before, before)], TERMS)
    assert shown == f"{question} (following on from: {before})"


def test_a_search_form_can_be_taken_apart() -> None:
    assert split_search_form("When does it open? (Tangle Lock)") == (
        "When does it open?",
        "Tangle Lock",
    )
    assert split_search_form("When does it open?") == ("When does it open?", "")


@given(st.text(max_size=80), st.lists(st.text(max_size=80), max_size=3))
def test_any_conversation_can_be_followed(question: str, earlier: list[str]) -> None:
    history = [Exchange(text, text) for text in earlier]
    assert isinstance(stand_alone(question, history, TERMS), str)


def test_support_needs_the_numbers_and_the_terms() -> None:
    assert support("The limit is 28 knots.", "a limit of 28 knots", TERMS) == 1.0
    assert support("The limit is 30 knots.", "a limit of 28 knots", TERMS) == 0.0
    assert support("The limit is red.", "a limit of 28 knots", TERMS) == pytest.approx(0.5)


def test_rows_are_named_by_their_first_cell() -> None:
    assert row_text(["Berth", "Depth"], "Outer berth\t8.6 m") == "Outer berth; Depth: 8.6 m"
    assert row_text(["Channel", "Use"], "12\ttraffic") == "Channel: 12; Use: traffic"
    assert row_text(["A", "B"], "only one") == "only one"


def test_statements_keep_their_places() -> None:
    for passage in Documents(None, storm=STORM, lock=LOCK).passages:
        for statement in statements(passage):
            quoted = passage.text[statement.start - passage.start : statement.end - passage.start]
            assert quoted == (statement.text if statement.kind != "row" else quoted)
            assert quoted.strip() == quoted


@given(st.text(max_size=400))
def test_any_question_gets_an_answer_or_is_declined(question: str) -> None:
    result = asked(Documents(None, storm=STORM), question, floor=0.5)
    assert result.text
    assert (result.outcome == Outcome.ANSWERED) == bool(result.citations)


def test_who_asks_how_gets_the_numbered_steps(embedder: OnnxEmbedder) -> None:
    data = (
        b"# Buoys\n\n## Lifting a buoy\n\nBuoys are lifted by the tug. The team is four"
        b" people.\n\n1. Fix the position.\n2. Take the load.\n3. Bring it on deck.\n"
    )
    result = asked(Documents(embedder, buoys=data), "How do I lift a buoy?")
    assert result.text == "1. Fix the position.\n2. Take the load.\n3. Bring it on deck."
    assert [citation.support for citation in result.citations] == [1.0]


def test_a_superseded_rule_does_not_come_before_the_one_in_force(embedder: OnnxEmbedder) -> None:
    old = (
        b"# Heavy-weather notice 2019 (superseded)\n\nThe port is closed when the mean wind is"
        b" above 40 knots.\n"
    )
    new = (
        b"# Storm plan\n\nAt stage red, from 35 knots of mean wind, the port is closed to all but"
        b" rescue craft.\n"
    )
    result = asked(Documents(embedder, old=old, new=new), "At what wind is the port closed?")
    assert result.citations[0].title == "Storm plan"


class Approved:
    """Approved answers by a word of their question; other questions are offered a choice."""

    def __init__(self, **answers: str) -> None:
        self.asked: list[str] = []
        self._answers = answers

    def find(self, question: str, knowledge: Knowledge, settings: AnswerSettings) -> ApprovedFound:
        self.asked.append(question)
        text = next((text for word, text in self._answers.items() if word in question), None)
        if text is None:
            return ApprovedFound(
                None, (Choice("appr_2", "When does it open?", settings.approved_needed / 2),)
            )
        return ApprovedFound(ApprovedAnswer(Approval("appr_1", "Opening times", "Ada"), text))


def test_an_approved_answer_is_served_before_any_search(embedder: OnnxEmbedder) -> None:
    documents, trace = Documents(embedder, lock=LOCK), Trace()
    approved = Approved(open="From six to ten.")
    history = [Exchange("How long is Tangle Lock?", "How long is Tangle Lock?", ("Lock notes",))]
    events = list(
        answer("And when does it open?", history, documents, approved=approved, trace=trace)
    )
    assert isinstance(events[-1], Finished)
    result = events[-1].answer
    assert (result.text, result.composer) == ("From six to ten.", "approved")
    assert result.approval == Approval("appr_1", "Opening times", "Ada")
    assert approved.asked == [result.standalone]
    assert [step.name for step in trace.steps] == [
        "routing",
        "stand-alone question",
        "approved answers",
    ]
    # Where none was approved, the question goes its way.
    other = list(answer("Which channel is the keeper on?", [], documents, approved=approved))[-1]
    assert isinstance(other, Finished)
    assert (other.answer.composer, other.answer.approval) == ("built-in", None)
    assert [choice.id for choice in other.answer.choices] == ["appr_2"]
    assert "71" in other.answer.text
