"""Counting, listing and adding up rows of tables: exactly, over the whole table, or not at all."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fontanel.core.answering import Answer, Finished, Outcome, answer
from fontanel.core.answering.composing.table_rows import Amount, amount_in
from fontanel.core.embedding.encoder import OnnxEmbedder
from tests.conftest import EMBEDDER
from tests.core.documents import Documents

BERTHS = b"""# Berths

| Berth | Greatest length | Bollards | Shore power | Use |
| --- | --- | --- | --- | --- |
| Outer berth | 165 m | 80 tonnes | none | bulk and cruise ships |
| Berth 2 | 95 m | 40 tonnes | 125 amperes | general cargo |
| Berth 3 | 95 m | 40 tonnes | 125 amperes | general cargo |
| Berth 4 | 120 m | 60 tonnes | 250 amperes | crane berth |
| Berth 5 | 60 m | 15 tonnes | 63 amperes | workboats |
| Ferry berth | 110 m | see note | none | ferries only |
"""
BUOYS = b"""# Buoy list

| Number | Name | Light |
| --- | --- | --- |
| 11 | Carrag North | red, flashing every 3 s |
| 14 | Alder Bay | yellow, flashing every 5 s |
| 22 | Otter Stone | red, flashing every 6 s |
"""
FARES = b"""# Fares

| Passenger | Fare |
| --- | --- |
| Adult | 12 crowns |
| Child | 6 crowns |
"""


@pytest.fixture(scope="module")
def documents() -> Documents:
    return Documents(OnnxEmbedder(EMBEDDER), berths=BERTHS, buoys=BUOYS, fares=FARES)


def ask(documents: Documents, question: str) -> Answer:
    events = answer(question, [], documents)
    return next(event for event in events if isinstance(event, Finished)).answer


@pytest.mark.parametrize(
    ("question", "text", "cited"),
    [
        (
            "How many berths are longer than 100 m?",
            "3 of the 6 in the table: Outer berth (165 m), Berth 4 (120 m), Ferry berth (110 m).",
            3,
        ),
        (
            "How many berths are no longer than 95 metres?",
            "3 of the 6 in the table: Berth 2 (95 m), Berth 3 (95 m), Berth 5 (60 m).",
            3,
        ),
        ("How many berths are shorter than 50 m?", "None of the 6 in the table.", 6),
        (
            "How many berths are longer than 0.12 km?",
            "1 of the 6 in the table: Outer berth (165 m).",
            1,
        ),
        (
            "Which berths are between 100 and 150 m long?",
            "Berth 4 (120 m), Ferry berth (110 m).",
            2,
        ),
        (
            "How many berths are there?",
            "The table has 6: Outer berth, Berth 2, Berth 3, Berth 4, Berth 5, Ferry berth.",
            6,
        ),
        (
            "How many berths have no shore power?",
            "2 of the 6 in the table: Outer berth (none), Ferry berth (none).",
            2,
        ),
        (
            "Which berths have shore power?",
            "Berth 2 (125 amperes), Berth 3 (125 amperes), Berth 4 (250 amperes), Berth 5 (63"
            " amperes).",
            4,
        ),
        (
            "How many berths are for general cargo?",
            "2 of the 6 in the table: Berth 2 (general cargo), Berth 3 (general cargo).",
            2,
        ),
        (
            "What is the total length of the berths?",
            "Greatest length: 645 m in all, of 6 rows.",
            6,
        ),
        (
            "What is the total length of the berths for general cargo?",
            "Greatest length: 190 m in all, of 2 rows.",
            2,
        ),
        (
            "What is the average length of the berths?",
            "Greatest length: 107.5 m on average, of 6 rows.",
            6,
        ),
        (
            "What is the average length of berths with more than 100 amperes of shore power?",
            "Greatest length: 103.3333 m on average, of 3 rows.",
            3,
        ),
        ("Which berth is the longest?", "Outer berth: greatest length 165 m.", 1),
        ("What is the shortest berth?", "Berth 5: greatest length 60 m.", 1),
        (
            "What is the shortest of the berths over 90 m?",
            "Berth 2 and Berth 3: greatest length 95 m.",
            2,
        ),
        (
            "Which general cargo berth is the longest?",
            "Berth 2 and Berth 3: greatest length 95 m.",
            2,
        ),
        (
            "How many buoys flash red?",
            "2 of the 3 in the table: 11 (red, flashing every 3 s), 22 (red, flashing every 6 s).",
            2,
        ),
    ],
)
def test_rows_are_counted_listed_and_added_up(
    documents: Documents, question: str, text: str, cited: int
) -> None:
    # The table is cut into several passages.
    assert len({p.passage_id for p in documents.passages if p.document_id == "doc_berths"}) > 1
    result = ask(documents, question)
    assert result.outcome == Outcome.ANSWERED
    assert result.text.startswith(text)
    assert len(result.citations) == cited
    for citation in result.citations:
        whole = documents.texts[citation.revision_id]
        assert whole[citation.start : citation.end] == citation.quote


@pytest.mark.parametrize(
    ("question", "reason"),
    [
        ("How many berths have bollards of more than 50 tonnes?", "has text, such as “see note”"),
        ("What is the total of the bollards of the berths?", "has text, such as “see note”"),
        ("Which berth has the strongest bollards?", "has text, such as “see note”"),
        ("How many berths are longer than 100 tonnes?", "“Greatest length” is in m."),
    ],
)
def test_what_cannot_be_computed_is_declined_with_the_reason(
    documents: Documents, question: str, reason: str
) -> None:
    result = ask(documents, question)
    assert result.outcome == Outcome.DECLINED
    assert reason in result.text


@pytest.mark.parametrize(
    "question",
    [
        "How many tugs are there?",
        "Which berths are for ferries?",
        "How many berths are closed?",
        "Which berth is the oldest?",
        "What is the longest stay at Berth 4?",
        "What is the total fare for 3 passengers?",
        "What is the total fare of a passenger without luggage?",
    ],
)
def test_other_questions_are_not_computed(documents: Documents, question: str) -> None:
    text = ask(documents, question).text
    assert "in the table" not in text
    assert "in all" not in text


@settings(max_examples=20, deadline=None)
@given(
    lengths=st.lists(st.integers(1, 400), min_size=2, max_size=30),
    limit=st.integers(1, 400),
    word=st.sampled_from(["longer", "shorter"]),
)
def test_counts_are_those_of_the_table(lengths: list[int], limit: int, word: str) -> None:
    rows = "\n".join(f"| Gate {n} | {length} m |" for n, length in enumerate(lengths, 1))
    text = f"# Gates\n\n| Gate | Length |\n| --- | --- |\n{rows}\n"
    result = ask(Documents(None, gates=text.encode()), f"How many gates are {word} than {limit} m?")
    count = sum(n > limit if word == "longer" else n < limit for n in lengths)
    start = f"{count} of" if count else "None of"
    assert result.text.startswith(f"{start} the {len(lengths)} in the table")


@pytest.mark.parametrize(
    ("text", "unit", "amount"),
    [
        ("165 m", "", Amount(165, "m")),
        ("2 km", "", Amount(2000, "m")),
        ("1,600", "kg", Amount(1600, "kg")),
        ("€ 4.50", "", Amount(4.5, "euro")),
        ("25 to 34 knots", "", None),
        ("up to 8 m", "", None),
        ("", "", None),
    ],
)
def test_amounts_are_whole_cells(text: str, unit: str, amount: Amount | None) -> None:
    assert amount_in(text, unit) == amount
