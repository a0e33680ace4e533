"""What documents say about their own validity."""

from __future__ import annotations

from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.reading import Reading, read
from fontanel.core.validity import ValidityKind as Kind
from fontanel.core.validity import find_statements, opening_dates
from fontanel.core.validity.dates import dates_in

PLAN = "the storm plan of 1 March 2024"


def reading_of(text: str) -> Reading:
    return read(text.encode(), "document.md")


def found(text: str) -> list[tuple[Kind, str, date | None]]:
    return [(one.kind, one.names, one.date) for one in find_statements(reading_of(text))]


@pytest.mark.parametrize(
    ("text", "kind", "names"),
    [
        (f"# Notice\n\nSuperseded by {PLAN} and kept for the record.", Kind.REPLACED_BY, PLAN),
        (f"# Notice\n\nThis notice has been replaced by {PLAN}.", Kind.REPLACED_BY, PLAN),
        ("# Plan\n\nThis plan replaces the notice of 12 October 2019.", Kind.REPLACES, None),
        ("# Plan\n\nIt supersedes SOP-014, in its entirety.", Kind.REPLACES, "SOP-014"),
        (
            "# Rules\n\n| Replaces | SOP-014 |\n| --- | --- |\n| Owner | X |",
            Kind.REPLACES,
            "SOP-014",
        ),
        ("# Rules\n\n- Superseded by: Gate rules", Kind.REPLACED_BY, "Gate rules"),
        ("# Rules (superseded)\n\nText.", Kind.WITHDRAWN, ""),
        ("# Rules\n\nStatus: withdrawn", Kind.WITHDRAWN, ""),
        ("# Rules\n\nThese rules are no longer in force.", Kind.WITHDRAWN, ""),
        (
            "# Ordnung\n\nDiese Ordnung ersetzt die Hafenordnung vom 1. Mai 2019 und ist für alle"
            " Schiffe da, die im Hafen mit Fracht liegen und auf der Reede warten.",
            Kind.REPLACES,
            "die Hafenordnung vom 1. Mai 2019",
        ),
        (
            "# Avis\n\nCet avis est remplacé par le plan de tempête, et les navires sont dans le"
            " port avec le pilote pour la nuit.",
            Kind.REPLACED_BY,
            "le plan de tempête",
        ),
        (
            "# Aviso\n\nEste aviso ha sido sustituido por el plan de temporal, que se aplica a los"
            " buques en el puerto y por la noche no se admite.",
            Kind.REPLACED_BY,
            "el plan de temporal",
        ),
    ],
)
def test_statements_are_found_with_the_document_they_name(
    text: str, kind: Kind, names: str | None
) -> None:
    statements = [one for one in find_statements(reading_of(text)) if one.kind == kind]
    assert statements, found(text)
    if names is not None:
        assert statements[0].names == names


@pytest.mark.parametrize(
    ("text", "kind", "day"),
    [
        ("In force from 1 March 2024.", Kind.IN_FORCE_FROM, date(2024, 3, 1)),
        ("Sixth issue, in force from April 1, 2025.", Kind.IN_FORCE_FROM, date(2025, 4, 1)),
        ("Effective date: 2024-09-01", Kind.IN_FORCE_FROM, date(2024, 9, 1)),
        ("The rules come into force on 3rd May 2025.", Kind.IN_FORCE_FROM, date(2025, 5, 3)),
        ("Valid from 1 May 2025 to 30 April 2026.", Kind.IN_FORCE_UNTIL, date(2026, 4, 30)),
        ("Valid until 31 December 2027.", Kind.IN_FORCE_UNTIL, date(2027, 12, 31)),
    ],
)
def test_days_of_validity_are_found(text: str, kind: Kind, day: date) -> None:
    assert (kind, "", day) in found(f"# Rules\n\n{text}")


@pytest.mark.parametrize(
    "text",
    [
        "Tails of polyester are replaced by the gang after 18 months.",
        "A stolen card is replaced by the desk.",
        "The duty officer replaces the pilot in fog.",
        "This version replaces all earlier versions.",
        "Replaced by: none",
        "After the second time the card is withdrawn for a year.",
        "These rules are superseded if the harbour master says so.",
        "Section 4 comes into force on 1 May 2030.",
        "The winter timetable applies.",
        "Valid from 31 February 2024.",
    ],
)
def test_what_is_not_about_the_document_is_left_alone(text: str) -> None:
    assert not found(f"# Rules\n\n{text}")


def test_only_the_beginning_of_a_document_is_searched() -> None:
    filler = "The gate is closed at night and opened by the duty officer. " * 60
    assert not found(f"# Rules\n\n{filler}\n\nSuperseded by the storm plan.")


def test_a_statement_is_quoted_where_it_is() -> None:
    reading = reading_of(
        "# Plan\n\nFor the port. This plan replaces the notice of 12 October 2019."
    )
    statement = find_statements(reading)[0]
    assert reading.text[statement.start : statement.end] == statement.quote
    assert opening_dates(reading) == (date(2019, 10, 12),)


def test_an_issue_and_a_month_are_not_a_date() -> None:
    assert list(dates_in("issue 6 of May 2023")) == []


@given(st.text(alphabet=st.sampled_from("replaces superseded by this plan from 1 May 2024.,:()\n")))
def test_any_text_is_searched_without_an_error(text: str) -> None:
    reading = reading_of(f"# A title\n\n{text}")
    for statement in find_statements(reading):
        assert 0 <= statement.start <= statement.end <= len(reading.text)
        assert statement.quote
