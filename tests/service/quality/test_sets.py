"""Question sets: made by hand, imported, and taken over from answers."""

from __future__ import annotations

import json

import pytest

from fontanel import schemas as s
from fontanel.client import Client, NotFound, ProblemError
from tests.conftest import TeamSetup, until

CRANE = "At what gust does the quay crane stop?"


@pytest.fixture
def crane_set(team: TeamSetup) -> str:
    return team.client.create_set("Crane", "What crews ask.").slug


def test_a_set_is_made_changed_and_deleted(team: TeamSetup, crane_set: str) -> None:
    client = team.client
    first, second = client.add_set_questions(
        crane_set,
        [
            s.SetQuestionIn(question=CRANE, contains=["38 knots"], kind="limits"),
            s.SetQuestionIn(question="Who owns the moon?", must_decline=True),
        ],
    )
    assert (first.number, second.number) == (1, 2)
    body = s.SetQuestionIn(question=CRANE, contains=["38"], history=["Tell me about the crane."])
    changed = client.replace_set_question(crane_set, first.id, body)
    assert changed.contains == ["38"]
    assert changed.history == ["Tell me about the crane."]
    assert [one.id for one in client.list_set_questions(crane_set, "moon")] == [second.id]
    client.remove_set_question(crane_set, second.id)
    shown = client.show_set(crane_set)
    assert shown.questions == 1
    assert shown.version == 4
    client.change_set(crane_set, s.SetChange(name="Cranes"))
    assert [one.name for one in client.list_sets()] == ["Cranes"]
    client.delete_set(crane_set)
    with pytest.raises(NotFound):
        client.show_set(crane_set)


@pytest.mark.parametrize("name", ["Crane", "CRANE", "crane!"])
def test_names_are_taken_once(team: TeamSetup, crane_set: str, name: str) -> None:
    with pytest.raises(ProblemError, match="already"):
        team.client.create_set(name)


def test_a_question_is_declined_or_has_an_answer(team: TeamSetup, crane_set: str) -> None:
    with pytest.raises(ValueError, match="must be declined"):
        s.SetQuestionIn(question="Who?", must_decline=True, contains=["Anna"])
    line = json.dumps({"question": "Who?", "must_decline": True, "contains": ["Anna"]})
    result = team.client.import_set(crane_set, line)
    assert "must be declined" in result.problems[0].problem


@pytest.mark.parametrize("form", ["jsonl", "csv"])
def test_export_and_import_are_inverse(team: TeamSetup, crane_set: str, form: str) -> None:
    client = team.client
    questions = [
        s.SetQuestionIn(
            question="And at night?",
            history=["Who takes a tug?", "By day?"],
            documents=["a.md", "b.md"],
            quotes=['He said, "noon".'],
            contains=["noon|12:00", "=1+1"],
            kind="follow-up",
            note="two lines\nof note",
        ),
        s.SetQuestionIn(question="Who owns the moon?", must_decline=True),
    ]
    client.add_set_questions(crane_set, questions)
    text = client.export_set(crane_set, form)  # type: ignore[arg-type]
    other = client.create_set("Copy").slug
    assert client.import_set(other, text, form).added == 2  # type: ignore[arg-type]
    assert client.export_set(other, form) == text  # type: ignore[arg-type]


def test_one_bad_line_imports_nothing(team: TeamSetup, crane_set: str) -> None:
    result = team.client.import_set(crane_set, '{"question": "Who?"}\n{"question": ""}\noops')
    assert result.added == 0
    assert [problem.line for problem in result.problems] == [2, 3]
    assert team.client.list_set_questions(crane_set) == []
    with pytest.raises(ProblemError, match="no column"):
        team.client.import_set(crane_set, "text\nx\n", "csv")


def test_answers_become_questions(team: TeamSetup, storm: str, crane_set: str) -> None:
    client = team.client
    answer = client.ask(storm, CRANE)
    follow = client.ask(storm, "And when is it pinned?", conversation=answer.conversation_id)
    declined = client.ask(storm, "Who owns the moon?")
    turns = [answer.turn_id, follow.turn_id, declined.turn_id]
    added = client.collect_set_questions(crane_set, answers=turns)
    assert [one.question for one in added] == [CRANE, follow.question, declined.question]
    assert added[0].documents == ["storm-plan.md"]
    assert added[0].quotes == [citation.quote for citation in answer.citations]
    assert added[0].origin == f"answer {answer.turn_id}"
    assert added[1].history == [CRANE]
    assert added[2].must_decline
    assert client.collect_set_questions(crane_set, answers=turns) == []
    with pytest.raises(NotFound):
        client.collect_set_questions(crane_set, answers=["turn_none"])


def test_approved_questions_are_taken_over(team: TeamSetup, storm: str, crane_set: str) -> None:
    client = team.client
    place = {"document": "storm-plan.md", "start": 0, "end": 12}
    body = {
        "question": "Who hands out permits?",
        "phrasings": ["Where are permits?"],
        "text": "The gate.",
        "category": "Access",
        "places": [place],
    }
    client.create_approved(storm, s.ApprovedIn.model_validate({**body, "state": "approved"}))
    client.create_approved(storm, s.ApprovedIn(question="A draft?", text="Yes."))
    assert client.collect_set_questions(crane_set, approved_of=storm, category="Other") == []
    added = client.collect_set_questions(crane_set, approved_of=storm)
    assert [one.question for one in added] == ["Who hands out permits?", "Where are permits?"]
    assert {one.kind for one in added} == {"Access"}
    assert added[0].documents == ["storm-plan.md"]


def test_gaps_are_taken_over_with_the_answer_that_closed_them(
    team: TeamSetup, storm: str, crane_set: str
) -> None:
    client = team.client
    for question in ("When is the canteen open?", "Who repairs the radar mast?"):
        client.ask(storm, question)
    until(lambda: len(client.list_gaps()) == 2)
    canteen = client.list_gaps(text="canteen")[0].id
    radar = client.list_gaps(text="radar")[0].id
    client.write_document(storm, "canteen.md", "The canteen is open from 6:00 to 14:00.\n")
    until(lambda: client.show_gap(canteen).state == "resolved")
    closed, still_open = client.collect_set_questions(crane_set, gaps=[canteen, radar])
    assert closed.documents == ["canteen.md"]
    assert "6:00 to 14:00" in closed.quotes[0]
    assert (still_open.documents, still_open.quotes, still_open.must_decline) == ([], [], False)
    assert still_open.origin == f"gap {radar}"
    with pytest.raises(NotFound):
        client.collect_set_questions(crane_set, gaps=["gap_none"])


def test_proposed_questions_are_taken_over(team: TeamSetup, kb: str, crane_set: str) -> None:
    client = team.client
    text = (
        "# Water\n\nFresh water costs 3.20 crowns a tonne. A ship may lie at a berth for 5 days.\n"
    )
    client.write_document(kb, "water.md", text)
    client.wait_for_document(kb, "water.md")
    client.propose_questions(kb, "water.md")
    until(lambda: not client.document_proposals(kb, "water.md").waiting)
    proposals = {one.question: one for one in client.list_proposals(kb)}
    added = client.collect_set_questions(crane_set, proposed_of=kb, phrasings=False)
    assert {one.question for one in added} == set(proposals)
    for one in added:
        assert one.documents == ["water.md"]
        assert one.quotes == [proposals[one.question].quote]
    more = client.collect_set_questions(crane_set, proposed_of=kb)
    assert {one.question for one in more} == {
        wording for one in proposals.values() for wording in one.phrasings
    }
    trial = client.wait_for_trial(client.begin_trial(crane_set, kb=kb).id, 60)
    right = {one.question for one in client.list_trial_results(trial.id, "right")}
    assert set(proposals) <= right


def test_keys_for_some_knowledge_bases_and_readers_are_refused(
    team: TeamSetup, storm: str, crane_set: str
) -> None:
    key = team.client.make_key("one kb", "editor", kbs=[storm])
    for client in (
        Client(team.service.url, key.secret, team.slug),
        team.with_role("reader"),
    ):
        with client, pytest.raises(ProblemError) as caught:
            client.list_sets()
        assert caught.value.problem.status == 403
