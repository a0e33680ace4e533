"""The built-in composer: comparisons, conflicts, yes and no, layouts, languages."""

from __future__ import annotations

from dataclasses import replace

import pytest

from fontanel.core.answering import (
    Answer,
    AnswerSettings,
    Finished,
    Layout,
    Length,
    Outcome,
    Route,
    Routes,
    answer,
)
from fontanel.core.answering.composing.quantities import quantities
from fontanel.core.answering.question.routing import choose
from fontanel.core.answering.question.shape import yes_or_no
from fontanel.core.answering.titles import title_of
from fontanel.core.embedding.encoder import OnnxEmbedder
from tests.conftest import EMBEDDER, STORM
from tests.core.documents import Documents

BERTHS = b"""# Berths

| Berth | Greatest length | Greatest draught | Use |
| --- | --- | --- | --- |
| Berth 2 | 95 m | 6.1 m | cargo |
| Berth 4 | 120 m | 5.8 m | cranes |
| Outer berth | 165 m | 8.6 m | bulk |

The ferry takes 45 minutes. The hydrofoil takes 18 minutes.

Dogs may travel on deck. Bicycles are not allowed in the lounge.
"""
OLD = b"""# Storm notice 2019

The quay crane stops at a gust of 45 knots and is pinned.
"""


@pytest.fixture(scope="module")
def embedder() -> OnnxEmbedder:
    return OnnxEmbedder(EMBEDDER)


@pytest.fixture(scope="module")
def berths(embedder: OnnxEmbedder) -> Documents:
    return Documents(embedder, berths=BERTHS)


def said(about: Documents, question: str, **settings: object) -> Answer:
    values = AnswerSettings(**{"evidence_needed": 0.0, **settings})  # type: ignore[arg-type]
    return next(e for e in answer(question, [], about, values) if isinstance(e, Finished)).answer


@pytest.mark.parametrize(
    ("question", "begins"),
    [
        (
            "Which is longer, berth 2 or berth 4?",
            "Berth 4: greatest length 120 m, against 95 m for berth 2.",
        ),
        (
            "Which is shorter, berth 2 or 4?",
            "Berth 2: greatest length 95 m, against 120 m for berth 4.",
        ),
        (
            "Which has the greater draught, berth 2 or berth 4?",
            "Berth 2: greatest draught 6.1 m, against 5.8 m for berth 4.",
        ),
        ("Which berth has the greatest draught?", "Outer berth: greatest draught 8.6 m."),
        (
            "Which is slower, the ferry or the hydrofoil?",
            "Ferry: 45 minutes, against 18 minutes for hydrofoil.",
        ),
    ],
)
def test_figures_of_two_are_compared_and_both_cited(
    berths: Documents, question: str, begins: str
) -> None:
    result = said(berths, question)
    assert result.text.startswith(begins)
    assert result.citations
    for citation in result.citations:
        assert berths.texts["rev_berths"][citation.start : citation.end] == citation.quote


@pytest.mark.parametrize(
    "question", ["Which is longer, berth 2 or the moon?", "What is the greatest length at Berth 4?"]
)
def test_what_cannot_be_compared_is_answered_as_ever(berths: Documents, question: str) -> None:
    assert "against" not in said(berths, question).text


def test_documents_that_disagree_are_told_of(embedder: OnnxEmbedder) -> None:
    knowledge = Documents(embedder, storm=STORM, old=OLD)
    knowledge.passages = [
        replace(p, match=0.5 if p.document_id == "doc_old" else 0.9) for p in knowledge.passages
    ]
    result = said(knowledge, "At what gust does the quay crane stop?")
    assert "38 knots" in result.text
    assert (
        "“Storm notice 2019” says otherwise: The quay crane stops at a gust of 45 knots and is"
        " pinned." in result.text
    )
    assert {citation.document_id for citation in result.citations} == {"doc_storm", "doc_old"}
    alone = said(Documents(embedder, storm=STORM), "At what gust does the quay crane stop?")
    assert "otherwise" not in alone.text


@pytest.mark.parametrize(
    ("question", "quoted"),
    [
        (
            "At what gust does the quay crane stop?",
            {"Crane 2 stops at a gust of 38 knots.", "Crane 5 stops at a gust of 27 knots."},
        ),
        ("At what gust does Crane 5 stop?", {"Crane 5 stops at a gust of 27 knots."}),
        ("at what gust does crane 5 stop", {"Crane 5 stops at a gust of 27 knots."}),
    ],
)
def test_an_ambiguous_question_is_answered_for_each(
    embedder: OnnxEmbedder, question: str, quoted: set[str]
) -> None:
    yard = b"# Quay cranes\n\nCrane 2 stops at a gust of 38 knots.\n\nIt is blue.\n\n"
    yard += b"Crane 5 stops at a gust of 27 knots.\n\nThe sheds are red."
    result = said(Documents(embedder, yard=yard), question)
    assert {citation.quote for citation in result.citations} == quoted


def test_a_statement_comes_with_what_its_pronoun_refers_to(embedder: OnnxEmbedder) -> None:
    sheds = (
        b"# Sheds\n\nThe red shed belongs to the pilots.\n\nIt is locked at nine in the evening."
    )
    result = said(Documents(embedder, sheds=sheds), "When is it locked in the evening?")
    assert result.text == (
        "The red shed belongs to the pilots. It is locked at nine in the evening."
    )


def test_other_things_with_other_figures_are_no_conflict(embedder: OnnxEmbedder) -> None:
    one = b"# Rules\n\nThe crane of Berth 4 stops at a gust of 38 knots."
    other = b"# Yard\n\nThe crane of Berth 5 stops at a gust of 27 knots."
    result = said(
        Documents(embedder, one=one, other=other), "At what gust does the crane of Berth 4 stop?"
    )
    assert "otherwise" not in result.text


@pytest.mark.parametrize(
    ("question", "statement", "verdict"),
    [
        ("May dogs travel on deck?", "Dogs may travel on deck.", True),
        ("Are bicycles allowed in the lounge?", "Bicycles are not allowed in the lounge.", False),
        ("May dogs travel on deck?", "Dogs may travel on deck only in summer.", None),
        ("May dogs travel on deck?", "Cats may travel on deck.", None),
        ("Where may dogs travel?", "Dogs may travel on deck.", None),
        ("May dogs or cats travel?", "Dogs may travel.", None),
        ("Are dogs not allowed?", "Dogs are allowed.", None),
    ],
)
def test_yes_and_no_are_said_only_where_they_are_plain(
    berths: Documents, question: str, statement: str, verdict: bool | None
) -> None:
    assert yes_or_no(question, statement, berths.terms) is verdict


def test_an_answer_says_yes_before_the_sentence_that_does(berths: Documents) -> None:
    assert said(berths, "May dogs travel on deck?").text.startswith("Yes. Dogs may travel on deck.")
    assert said(berths, "Are bicycles allowed in the lounge?").text.startswith(
        "No. Bicycles are not allowed"
    )


def test_layouts_and_lengths(berths: Documents) -> None:
    question = "What does each berth take?"
    table = said(berths, question, layout=Layout.TABLE).text.split("\n")
    assert table[0] == "| Berth | Greatest length | Greatest draught | Use |"
    assert set(table[1]) <= set("| -")
    assert "| Berth 2 | 95 m | 6.1 m | cargo |" in table
    without_rows = said(berths, "When do the bicycles board?", layout=Layout.TABLE).text
    assert "|" not in without_rows
    assert without_rows.startswith("- ")
    assert all(
        line.startswith("- ")
        for line in said(berths, question, layout=Layout.LIST).text.split("\n")
    )
    assert "\n" not in said(berths, question, layout=Layout.PROSE).text
    short, long = (
        said(berths, "What is known about berths and dogs?", length=length).text
        for length in (Length.SHORT, Length.LONG)
    )
    assert len(short) < len(long)


@pytest.mark.parametrize(
    ("question", "language", "says"),
    [
        ("Wie hoch ist die Gebühr für das Gepäck?", None, "Die Dokumente"),
        ("What is the fee?", "fr", "Les documents"),
        ("¿Cuál es el precio de los billetes?", None, "Los documentos"),
        ("What is the fee?", None, "The documents"),
        ("What is the fee?", "fi", "The documents"),
    ],
)
def test_the_service_s_own_words_are_in_the_asker_s_language(
    berths: Documents, question: str, language: str | None, says: str
) -> None:
    result = said(berths, question, evidence_needed=1.0, language=language)
    assert result.outcome == Outcome.DECLINED
    assert result.text.startswith(says)


def test_a_desk_greets_in_its_own_words(berths: Documents) -> None:
    assert said(berths, "Hello", greeting="Ahoy.").text == "Ahoy."
    assert said(berths, "Thanks!").outcome == Outcome.SMALL_TALK


def test_questions_go_where_their_line_says(berths: Documents) -> None:
    routes = [
        Route("kb_a", "Kitchen", "meals, soup and prices of food"),
        Route("kb_b", "Quay", "berths, ropes and cranes"),
        Route("kb_c", "All"),
    ]
    results = {
        route.name: used
        for route, _, used in choose("What does the soup cost as a meal?", routes, berths)
    }
    assert results == {"Kitchen": True, "Quay": False, "All": True}
    vague = {route.name: used for route, _, used in choose("Who wrote this?", routes, berths)}
    assert all(vague.values())
    taken: list[frozenset[str]] = []

    def among(kb_ids: frozenset[str]) -> Documents:
        taken.append(kb_ids)
        return berths

    list(
        answer(
            "What does the soup cost as a meal?",
            [],
            berths,
            AnswerSettings(),
            routes=Routes(routes, among),
        )
    )
    assert taken == [frozenset({"kb_a", "kb_c"})]


def test_documents_at_most(embedder: OnnxEmbedder) -> None:
    documents = Documents(embedder, storm=STORM, berths=BERTHS, old=OLD)
    result = said(documents, "At what gust does the quay crane stop?", documents=1)
    assert len({passage.document_id for passage in result.evidence}) == 1


@pytest.mark.parametrize(
    ("question", "title"),
    [
        (
            "What is the wind limit for leaving the outer berth?",
            "Wind limit for leaving the outer berth",
        ),
        ("hello, can you tell me how do I report a spill", "Report a spill"),
        ("Who?", "Who"),
        ("berth " * 40, "Berth " + "berth " * 9 + "berth…"),
    ],
)
def test_conversations_are_titled_by_their_first_question(question: str, title: str) -> None:
    result = title_of(question)
    assert len(result) <= 64
    assert result == title or question.startswith("berth")


def test_quantities_have_one_form() -> None:
    assert quantities("1,200 metres, 4.5 m, €30 and 7 crowns") == {
        (1200.0, "m"),
        (4.5, "m"),
        (30.0, "euro"),
        (7.0, "crown"),
    }


def test_a_lead_in_brings_its_list(embedder: OnnxEmbedder) -> None:
    text = (
        b"# Mooring\n\nThe outer berth is open to the north-east. Secure the ship as follows:\n\n"
        b"- Use lines of one kind.\n- Keep winches on the brake.\n- Keep a spare line ready.\n"
    )
    result = said(Documents(embedder, mooring=text), "Where is the outer berth open to the sea?")
    assert "north-east" in result.text
    assert "Secure the ship as follows:" in result.text
    for line in ("lines of one kind", "winches", "spare line"):
        assert line in result.text
