"""Approved answers: made, served, offered, changed, retired, imported and exported."""

from __future__ import annotations

import csv
import io
import json
from datetime import date, timedelta
from typing import Literal

import pytest

from fontanel import schemas as s
from fontanel.client import ChangedMeanwhile, NotAllowed, NotFound, ProblemError
from tests.conftest import TeamSetup, new_team

QUESTION = "Up to what wind may ships leave the outer berth?"
Form = Literal["jsonl", "csv"]
FORMS: tuple[Form, ...] = ("jsonl", "csv")
ANSWER = "Up to **28 knots** from the north-east. Ask the duty harbour master above that."


def make(team: TeamSetup, kb: str, **fields: object) -> s.ApprovedOut:
    values = {"question": QUESTION, "text": ANSWER, "state": "approved", **fields}
    return team.client.create_approved(kb, s.ApprovedIn.model_validate(values))


def test_an_approved_answer_is_served_with_who_approved_it(
    team: TeamSetup, kb: str, storm: str
) -> None:
    client = team.client
    start = client.document_text(kb, "storm-plan.md").text.index("Departure from the outer berth")
    made = make(
        team,
        kb,
        places=[{"document": "storm-plan.md", "start": start, "end": start + 84}],
        phrasings=["How windy can it be before departures stop?"],
    )
    assert (made.state, made.served, made.version) == ("approved", True, 1)
    assert made.places[0].quote.startswith("Departure from the outer berth is permitted")
    assert made.places[0].locator.heading_path[-1] == "Outer berth"
    for question in (QUESTION, "how windy can it be before departures stop"):
        answer = client.ask(kb, question)
        assert (answer.text, answer.composer) == (ANSWER, "approved")
        assert answer.approval is not None
        assert (answer.approval.id, answer.approval.version) == (made.id, 1)
        assert answer.approval.approved_by == made.approved_by != ""
        (citation,) = answer.citations
        assert citation.quote == made.places[0].quote
    usage = client.usage(by="model")
    assert [(row.name, row.questions, row.approved) for row in usage.rows] == [
        ("approved answers", 2, 2)
    ]
    record = client.show_answer(answer.turn_id)
    assert record.approval == answer.approval
    assert "approved answers" in [step.name for step in record.steps]


@pytest.mark.parametrize(
    "question",
    [
        "At what gust does the quay crane stop?",
        "Up to what wind may ships leave berth 4?",
        "Up to what wind may ships leave outer berth 12?",
    ],
)
def test_another_question_is_not_answered_by_it(
    team: TeamSetup, kb: str, storm: str, question: str
) -> None:
    make(team, kb)
    answer = team.client.ask(kb, question)
    assert answer.approval is None
    assert answer.composer == "built-in"


def test_drafts_retired_answers_and_other_days_are_not_served(team: TeamSetup, kb: str) -> None:
    client = team.client
    today = date.today()
    for fields in (
        {"state": "draft"},
        {"state": "retired"},
        {"valid_from": today + timedelta(days=2)},
        {"valid_until": today - timedelta(days=2)},
    ):
        made = make(team, kb, **fields)
        assert not made.served
        assert client.ask(kb, QUESTION).approval is None
        client.delete_approved(kb, made.id)
    made = make(team, kb, valid_from=today - timedelta(days=2), valid_until=today)
    assert client.ask(kb, QUESTION).approval is not None
    retired = client.change_approved(kb, made.id, s.ApprovedChange(state="retired"), made.version)
    assert not retired.served
    assert client.ask(kb, QUESTION).approval is None


def test_every_change_is_a_version(team: TeamSetup, kb: str) -> None:
    client = team.client
    made = make(team, kb, state="draft", category="Weather")
    assert made.approved_by == ""
    text = s.ApprovedChange(text="Up to 26 knots.")
    changed = client.change_approved(kb, made.id, text, made.version)
    with pytest.raises(ChangedMeanwhile):
        client.change_approved(kb, made.id, text, made.version)
    approved = s.ApprovedChange(state="approved")
    client.change_approved(kb, made.id, approved, changed.version)
    assert client.ask(kb, QUESTION).text == "Up to 26 knots."
    versions = client.list_approved_versions(kb, made.id)
    assert [(v.number, v.text, v.state) for v in versions] == [
        (3, "Up to 26 knots.", "approved"),
        (2, "Up to 26 knots.", "draft"),
        (1, ANSWER, "draft"),
    ]
    assert [c.model_dump() for c in client.count_approved(kb)] == [
        {"category": "Weather", "draft": 0, "approved": 1, "retired": 0}
    ]


def test_an_answer_that_was_given_is_approved(team: TeamSetup, kb: str, storm: str) -> None:
    client = team.client
    given = client.ask(kb, "At what gust does the quay crane stop?")
    assert given.citations
    made = client.approve_answer(kb, given.turn_id, state="approved", text="At 38 knots.")
    assert (made.question, made.turn_id) == (given.standalone, given.turn_id)
    assert [place.quote for place in made.places] == [c.quote for c in given.citations]
    again = client.ask(kb, "At what gust does the quay crane stop?")
    assert (again.text, again.composer) == ("At 38 knots.", "approved")
    declined = client.ask(kb, "Who painted the lighthouse pink?")
    with pytest.raises(ProblemError, match="not answered"):
        client.approve_answer(kb, declined.turn_id)


def test_a_desk_serves_those_of_its_knowledge_bases(team: TeamSetup, kb: str, storm: str) -> None:
    client = team.client
    make(team, kb)
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=kb)])
    desk = client.create_desk("Harbour office", settings)
    client.publish_desk(desk.slug)
    assert client.ask_desk(desk.slug, QUESTION).text == ANSWER
    # Where only equal wording counts, others are offered.
    strict = {"approved_needed": 1.0}
    other = "Up to which wind can a ship leave the outer berth?"
    answer = client.ask_desk(desk.slug, other, draft=True, settings=strict)
    assert answer.approval is None
    assert [choice.question for choice in answer.choices] == [QUESTION]
    assert client.match_approved(kb, other)[0].question == QUESTION


def test_a_desk_that_is_limited_to_some_documents_serves_what_rests_on_them(
    team: TeamSetup, kb: str, storm: str
) -> None:
    client = team.client
    client.add_document(
        kb, b"# Gate\n\nThe gate opens at 6.", "gate.md", {"for": "guests"}, wait=True
    )
    open_to_all = make(team, kb, question="When does the gate open?", text="At 6.",
                       places=[{"document": "gate.md"}])  # fmt: skip
    make(team, kb, places=[{"document": "storm-plan.md"}])
    make(team, kb, question="Who is on duty at the gate?", text="The guard.")
    part = s.DeskKb(kb=kb, tags={"for": "guests"})
    desk = client.create_desk("Guests", s.DeskSettings(kbs=[part]))
    client.publish_desk(desk.id)
    answer = client.ask_desk(desk.id, "When does the gate open?")
    assert answer.approval is not None
    assert answer.approval.id == open_to_all.id
    for question in (QUESTION, "Who is on duty at the gate?"):
        answer = client.ask_desk(desk.id, question)
        assert (answer.approval, answer.choices) == (None, [])


def test_import_and_export(team: TeamSetup, kb: str, storm: str) -> None:
    client = team.client
    lines = [
        {"question": QUESTION, "text": ANSWER, "state": "approved", "documents": ["storm-plan.md"]},
        {"question": "When does the office open?", "text": "At 8.", "phrasings": ["Office hours?"]},
        {"question": "=1+1 is what?", "text": "- Two."},
    ]
    text = "".join(json.dumps(line) + "\n" for line in lines)
    result = client.import_approved(kb, text)
    assert (result.created, result.changed, result.problems) == (3, 0, [])
    assert client.ask(kb, QUESTION).citations[0].title == "Storm plan"
    for form in FORMS:
        exported = client.export_approved(kb, form)
        again = client.import_approved(kb, exported, form)
        assert (again.created, again.changed, again.unchanged) == (0, 0, 3)
    rows = list(csv.DictReader(io.StringIO(client.export_approved(kb, "csv"))))
    assert [row["question"] for row in rows] == [
        "'=1+1 is what?",
        QUESTION,
        "When does the office open?",
    ]


@pytest.mark.parametrize(
    ("form", "text", "line", "problem"),
    [
        ("jsonl", '{"question": "Is it open?", "text": "Yes."}\n{"question": 1}\n', 2, "question"),
        ("jsonl", "[1, 2]\n", 1, "line"),
        ("jsonl", "{oops\n", 1, "not JSON"),
        ("csv", "question,text\nIs it open?\n", 2, "cells"),
        ("csv", "question,text,documents\nIs it open?,Yes,nowhere.md\n", 2, "nowhere.md"),
    ],
)
def test_a_file_with_a_bad_line_is_not_imported(
    team: TeamSetup, kb: str, form: Form, text: str, line: int, problem: str
) -> None:
    result = team.client.import_approved(kb, text, form)
    assert result.created == 0
    assert [p.line for p in result.problems] == [line]
    assert problem in result.problems[0].problem
    assert team.client.list_approved(kb) == []


def test_what_is_refused(team: TeamSetup, kb: str, storm: str) -> None:
    client = team.client
    with pytest.raises(ProblemError, match="not within"):
        make(team, kb, places=[{"document": "storm-plan.md", "start": 0, "end": 10**6}])
    with pytest.raises(NotFound):
        make(team, kb, places=[{"document": "nowhere.md"}])
    with pytest.raises(ProblemError, match="column"):
        client.import_approved(kb, "question,answer\n1,2\n", "csv")
    with pytest.raises(NotFound):
        client.show_approved(kb, "appr_unknown")
    made = make(team, kb)
    change = s.ApprovedChange(valid_from=date(2026, 5, 1), valid_until=date(2026, 4, 1))
    with pytest.raises(ProblemError, match="before it begins"):
        client.change_approved(kb, made.id, change, made.version)
    reader = team.with_role("reader")
    assert reader.show_approved(kb, made.id).question == QUESTION
    with pytest.raises(NotAllowed):
        reader.delete_approved(kb, made.id)


def test_another_team_neither_sees_nor_serves_them(team: TeamSetup, kb: str) -> None:
    made = make(team, kb)
    other_team = new_team(team.service)
    theirs = other_team.client.create_kb("Other").slug
    assert other_team.client.ask(theirs, QUESTION).approval is None
    with pytest.raises(NotFound):
        other_team.client.show_approved(theirs, made.id)
