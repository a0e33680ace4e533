"""Gaps: grouped, worked on, and closed by themselves; feedback and coverage."""

from __future__ import annotations

from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Client, NotFound, ProblemError
from tests.conftest import STORM, Service, TeamSetup, new_team, until

CANTEEN = "When is the canteen open?"
CRANE = "At what gust does the quay crane stop?"


@pytest.fixture
def desk(team: TeamSetup, storm: str) -> str:
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=storm)])
    slug = team.client.create_desk("Crews", settings).slug
    team.client.publish_desk(slug)
    return slug


def gap_of(client: Client, count: int = 1, **filters: str) -> s.GapOut:
    until(lambda: sum(one.count for one in client.list_gaps(**filters)) >= count)  # type: ignore[arg-type,misc]
    return client.list_gaps(**filters)[0]  # type: ignore[arg-type]


def test_questions_that_ask_for_the_same_are_one_gap(
    team: TeamSetup, storm: str, desk: str
) -> None:
    client = team.client
    client.ask_desk(desk, CANTEEN)
    client.ask(storm, "when is the canteen open")
    client.ask_desk(desk, "Who repairs the radar mast?")
    client.ask_desk(desk, CRANE)
    until(lambda: sorted(one.count for one in client.list_gaps()) == [1, 2])
    gap, other = client.list_gaps()
    assert gap.question.lower().startswith("when is the canteen")
    assert (gap.declined, gap.weak, gap.unhelpful) == (2, 0, 0)
    assert {one.name for one in gap.desks} == {"Crews", "a knowledge base directly"}
    assert gap.weeks == [0] * 7 + [2]
    assert client.list_gaps(desk=desk, text="radar")[0].id == other.id
    assert client.list_gaps(kind="weak") == []
    detail = client.show_gap(gap.id)
    assert [one.kind for one in detail.questions] == ["declined", "declined"]
    assert detail.questions[0].asker is None
    client.change_team(s.TeamChange(show_askers=True))
    assert client.show_gap(gap.id).questions[0].asker == "key tests"
    # Trials are no chat users.
    made = client.create_set("Canteen")
    client.collect_set_questions(made.slug, answers=[one.answer_id for one in detail.questions])
    client.wait_for_trial(client.begin_trial(made.slug, kb=storm).id)
    assert client.show_gap(gap.id).count == 2


def test_a_gap_is_assigned_discussed_resolved_and_opens_again(team: TeamSetup, storm: str) -> None:
    client = team.client
    client.ask(storm, CANTEEN)
    gap = gap_of(client)
    client.change_gap(gap.id, s.GapChange(assignee="I. Varda"))
    assert client.list_gaps(assignee="I. Varda")[0].id == gap.id
    assert client.list_gaps(assignee="nobody") == []
    client.comment_on_gap(gap.id, "The caterer has to say.")
    resolved = client.change_gap(gap.id, s.GapChange(state="resolved", resolution="not_needed"))
    assert resolved.resolved_by == "key tests"
    assert [one.text for one in resolved.remarks] == ["The caterer has to say."]
    assert client.list_gaps() == []
    assert client.list_gaps(state="resolved")[0].id == gap.id
    client.ask(storm, CANTEEN)
    again = gap_of(client, 2)
    assert (again.id, again.state, again.resolution) == (gap.id, "open", "")


def test_a_question_in_the_wrong_gap_is_taken_out(team: TeamSetup, storm: str) -> None:
    client = team.client
    first, second = (client.ask(storm, text) for text in (CANTEEN, CANTEEN.upper()))
    gap = gap_of(client, 2)
    alone = client.take_question_out(gap.id, second.turn_id)
    assert alone.id != gap.id
    assert [one.answer_id for one in client.show_gap(gap.id).questions] == [first.turn_id]
    with pytest.raises(ProblemError, match="only question"):
        client.take_question_out(gap.id, first.turn_id)
    with pytest.raises(NotFound):
        client.take_question_out(gap.id, second.turn_id)


def test_a_new_document_closes_a_gap_with_its_answer(
    team: TeamSetup, storm: str, desk: str
) -> None:
    client = team.client
    client.ask_desk(desk, CANTEEN)
    client.ask_desk(desk, "Who repairs the radar mast?")
    until(lambda: len(client.list_gaps()) == 2)
    gap = gap_of(client, text="canteen")
    client.write_document(
        storm, "canteen.md", "# Canteen\n\nThe canteen is open from 6:00 to 14:00.\n"
    )
    until(lambda: client.show_gap(gap.id).state == "resolved")
    closed = client.show_gap(gap.id)
    assert closed.resolution == "answered"
    assert closed.answer is not None
    assert "6:00 to 14:00" in closed.answer.text
    assert closed.answer.citations[0].title == "Canteen"
    until(lambda: any(one.kind == "gap.closed" for one in client.list_notices().items))
    assert [one.question for one in client.list_gaps()] == ["Who repairs the radar mast?"]


def test_an_approved_answer_closes_a_gap(team: TeamSetup, storm: str) -> None:
    client = team.client
    client.ask(storm, CANTEEN)
    gap = gap_of(client)
    body = s.ApprovedIn(question=CANTEEN, text="From 6:00.", state="approved")
    client.create_approved(storm, body)
    until(lambda: client.show_gap(gap.id).state == "resolved")
    answer = client.show_gap(gap.id).answer
    assert answer is not None
    assert answer.text == "From 6:00."


def test_a_deleted_conversation_takes_its_questions_along(team: TeamSetup, storm: str) -> None:
    client = team.client
    answer = client.ask(storm, CANTEEN)
    gap = gap_of(client)
    client.delete_conversation(answer.conversation_id, kb=storm)
    assert client.list_gaps() == []
    with pytest.raises(NotFound):
        client.show_gap(gap.id)


def test_feedback_is_assigned_answered_and_handled(team: TeamSetup, storm: str, desk: str) -> None:
    client = team.client
    answer = client.ask_desk(desk, CRANE)
    client.give_feedback(
        desk, answer.turn_id, helpful=False, reason="wrong", comment="Not the quay."
    )
    (item,) = client.list_feedback()
    assert (item.question, item.reason, item.comment) == (CRANE, "wrong", "Not the quay.")
    assert item.kb_id == client.show_kb(storm).id
    gap = gap_of(client, kind="unhelpful")
    assert gap.suggestion == "correct"
    until(lambda: client.list_feedback()[0].gap_id == gap.id)
    client.change_feedback(item.id, s.FeedbackChange(assignee="I. Varda"))
    assert client.list_feedback(assignee="I. Varda", reason="wrong")[0].id == item.id
    client.change_feedback(item.id, s.FeedbackChange(reply="It is corrected.", handled=True))
    assert client.list_feedback(handled=False) == []
    turns = client.show_conversation(answer.conversation_id, desk=desk)
    assert turns[0].feedback[0].reply == "It is corrected."
    assert turns[0].feedback[0].replied_by == "key tests"
    # Another opinion needs another look; a better one ends the gap.
    client.give_feedback(desk, answer.turn_id, helpful=False, reason="other")
    assert [one.id for one in client.list_feedback(handled=False)] == [item.id]
    client.give_feedback(desk, answer.turn_id, helpful=True)
    until(lambda: client.list_gaps() == [])
    assert client.list_feedback() == []
    with pytest.raises(NotFound):
        client.change_feedback("fb_none", s.FeedbackChange(handled=True))


def test_coverage_counts_what_answers_needed(team: TeamSetup, storm: str) -> None:
    client = team.client
    client.add_document(storm, b"# Paint\n\nHulls are painted grey.\n", "paint.md", wait=True)
    assert [one.found for one in client.show_coverage(storm)] == [0, 0]
    answer = client.ask(storm, CRANE)
    client.ask(storm, CRANE)
    by_name = {one.name: one for one in client.show_coverage(storm)}
    plan = by_name["storm-plan.md"]
    assert plan.cited == 2
    assert plan.last_cited_at is not None
    assert plan.found >= plan.cited
    assert plan.unfound < plan.passages
    assert by_name["paint.md"].cited == 0
    assert client.show_coverage(storm)[0].name == "paint.md"
    assert client.show_coverage(storm, unused_days=365) == []
    passages = client.show_document_coverage(storm, "storm-plan.md")
    assert len(passages) == plan.passages
    (cited,) = [one for one in passages if one.cited]
    assert cited.start <= answer.citations[0].start < cited.end


def test_a_gap_is_closed_after_a_kill(tmp_path: Path) -> None:
    service = Service(tmp_path / "data").start()
    try:
        client = new_team(service).client
        kb = client.create_kb("Rules").slug
        client.add_document(kb, STORM, "storm-plan.md", wait=True)
        client.ask(kb, CANTEEN)
        gap = gap_of(client)
        client.write_document(kb, "canteen.md", "The canteen is open from 6:00 to 14:00.\n")
        client.wait_for_document(kb, "canteen.md")
        service.kill()
        service.start()
        until(lambda: client.show_gap(gap.id).state == "resolved")
        answer = client.show_gap(gap.id).answer
        assert answer is not None
        assert "6:00 to 14:00" in answer.text
    finally:
        service.stop()


def test_gaps_of_one_team_do_not_delay_those_of_another(service: Service) -> None:
    busy, quiet = new_team(service), new_team(service)
    for team in (busy, quiet):
        team.client.create_kb("Rules")
        team.client.add_document("rules", STORM, "storm-plan.md", wait=True)
    for number in range(25):
        busy.client.ask("rules", f"Who repairs the radar mast of pier {number}?")
    quiet.client.ask("rules", CANTEEN)
    until(lambda: sum(one.count for one in busy.client.list_gaps(limit=100)) == 25)
    gap = gap_of(quiet.client)
    for team in (busy, quiet):
        team.client.write_document(
            "rules", "canteen.md", "The canteen is open from 6:00 to 14:00.\n"
        )
    until(lambda: quiet.client.show_gap(gap.id).state == "resolved")
    assert all(one.state == "open" for one in busy.client.list_gaps(limit=100))
