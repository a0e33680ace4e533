"""Which document a reference names."""

from __future__ import annotations

from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.validity import DocumentNames, best_match
from fontanel.core.validity.references import lookup_key, lookup_keys

STORM = DocumentNames("Storm plan", "storm-plan.pdf", frozenset({date(2024, 3, 1)}))
NOTICE = DocumentNames(
    "Heavy-weather notice 2019 (superseded)",
    "heavy-weather-notice-2019.txt",
    frozenset({date(2019, 10, 12)}),
)
TICKETS = DocumentNames("Ticket conditions", "ticket-conditions.pdf", frozenset({date(2026, 1, 1)}))
TICKETS_2022 = DocumentNames("Ticket conditions 2022", "old/ticket-conditions-2022.pdf")
SOP_14 = DocumentNames("SOP-014 Gate checks", "sop-014.md")
SOP_15 = DocumentNames("SOP-015 Gate checks", "sop-015.md")
OWN = DocumentNames("Berth rules", "berth-rules.docx")
ALL = [STORM, NOTICE, TICKETS, TICKETS_2022, SOP_14, SOP_15]


@pytest.mark.parametrize(
    ("reference", "own", "expected"),
    [
        ("the storm plan of 1 March 2024", NOTICE, STORM),
        ("the storm plan", NOTICE, STORM),
        ("the heavy-weather notice of 12 October 2019", STORM, NOTICE),
        ("the conditions of 2022", TICKETS, TICKETS_2022),
        ("SOP-014", OWN, SOP_14),
        ("storm-plan.pdf", OWN, STORM),
        # Another issue, another number, another document, nothing in particular.
        ("the storm plan of 1 March 2021", NOTICE, None),
        ("SOP-016", OWN, None),
        ("the dredging plan", OWN, None),
        ("the rules of 2023", OWN, None),
        ("edition 4", OWN, None),
        # Either may be meant.
        ("the gate checks", OWN, None),
    ],
)
def test_a_reference_is_to_the_document_that_it_clearly_names(
    reference: str, own: DocumentNames, expected: DocumentNames | None
) -> None:
    documents = [document for document in ALL if document != own]
    match = best_match(reference, documents, own)
    assert (None if match is None else documents[match]) == expected


@given(st.sampled_from(ALL), st.permutations(ALL))
def test_the_order_of_documents_does_not_matter(
    named: DocumentNames, documents: list[DocumentNames]
) -> None:
    match = best_match(f"the {named.title}", documents, OWN)
    assert match is None or documents[match] == named


@given(st.sampled_from(ALL))
def test_a_document_is_looked_up_by_a_word_of_its_title(document: DocumentNames) -> None:
    assert lookup_key(document.title, OWN) in lookup_keys(document)
