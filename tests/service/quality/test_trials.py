"""Trials: judged, resumed after a kill, compared, and demanded before publishing."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Client, ProblemError
from fontanel.engine.trials.running import ASKER
from tests.conftest import STORM, Service, TeamSetup, new_team, until

CRANE = "At what gust does the quay crane stop?"
QUESTIONS = [
    s.SetQuestionIn(question=CRANE, documents=["storm-plan.md"], kind="limits"),
    s.SetQuestionIn(question=CRANE, contains=["a hundred knots"], kind="limits"),
    s.SetQuestionIn(question="Who owns the moon?", must_decline=True, kind="nonsense"),
    s.SetQuestionIn(question="Hello!", kind="nonsense"),
]


@pytest.fixture
def crane_set(team: TeamSetup) -> str:
    slug = team.client.create_set("Crane").slug
    team.client.add_set_questions(slug, QUESTIONS)
    return slug


@pytest.fixture
def desk(team: TeamSetup, storm: str) -> str:
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=storm)])
    return team.client.create_desk("Crews", settings).slug


def finished(client: Client, trial: s.TrialOut) -> s.TrialOut:
    result = client.wait_for_trial(trial.id, 60)
    assert result.state == "done", result.note
    return result


def test_a_trial_of_a_knowledge_base_is_judged(team: TeamSetup, storm: str, crane_set: str) -> None:
    client = team.client
    trial = finished(client, client.begin_trial(crane_set, kb=storm))
    results = client.list_trial_results(trial.id)
    assert [one.result for one in results] == ["right", "wrong", "declined_rightly", "unjudged"]
    assert "a hundred knots" in results[1].reason
    assert (trial.asked, trial.total) == (4, 4)
    figures = trial.figures
    assert (figures.right.count, figures.right.of) == (2, 3)
    assert (figures.declined_rightly.count, figures.declined_rightly.of) == (1, 1)
    assert {group.name: group.right.count for group in figures.kinds} == {
        "limits": 1,
        "nonsense": 1,
    }
    assert [group.name for group in figures.documents] == ["storm-plan.md"]
    assert [one.question for one in client.list_trial_results(trial.id, "wrong")] == [CRANE]
    record = client.show_answer(results[0].answer_id or "")
    assert record.text == results[0].text
    assert record.asker.startswith(ASKER)
    client.delete_trial(trial.id)
    with pytest.raises(ProblemError):
        client.show_answer(results[0].answer_id or "")


def test_history_is_asked_first(team: TeamSetup, storm: str) -> None:
    client = team.client
    slug = client.create_set("Follow-ups").slug
    question = s.SetQuestionIn(question="And when is it pinned?", history=[CRANE])
    client.add_set_questions(slug, [question])
    trial = finished(client, client.begin_trial(slug, kb=storm))
    (result,) = client.list_trial_results(trial.id)
    record = client.show_answer(result.answer_id or "")
    assert record.number == 2
    assert record.standalone != record.question


def test_repeated_trials_are_equal_byte_for_byte(
    team: TeamSetup, storm: str, crane_set: str
) -> None:
    client = team.client
    one, other = (finished(client, client.begin_trial(crane_set, kb=storm)) for _ in range(2))
    text = client.export_trial(one.id)
    assert text == client.export_trial(other.id)
    assert [json.loads(line)["result"] for line in text.splitlines()][:2] == ["right", "wrong"]
    comparison = client.compare_trials(one.id, other.id)
    assert (comparison.same, comparison.probability) == (4, 1.0)


def test_other_settings_are_compared_question_by_question(
    team: TeamSetup, desk: str, crane_set: str
) -> None:
    client = team.client
    before = finished(client, client.begin_trial(crane_set, desk=desk, version="draft"))
    after = finished(
        client,
        client.begin_trial(
            crane_set, desk=desk, settings={"evidence_needed": 1.0}, compare_with=before.id
        ),
    )
    assert after.compare_with == before.id
    assert "evidence_needed" in after.label
    comparison = client.compare_trials(before.id, after.id)
    assert (comparison.won, comparison.lost) == (0, 1)
    assert comparison.answers[0].change == "lost"
    assert comparison.answers[0].after.result == "declined"
    assert client.list_trials(desk=desk, question_set=crane_set)[0].id == after.id
    # What trials ask is no question of a chat user.
    assert client.list_desk_answers(desk) == []
    assert client.usage(by="desk").total.questions == 0


def test_a_draft_that_loses_a_question_is_not_published(
    team: TeamSetup, desk: str, crane_set: str
) -> None:
    client = team.client
    first = client.list_set_questions(crane_set)[1]
    client.remove_set_question(crane_set, first.id)

    def change(**settings: object) -> None:
        client.change_desk(desk, settings, version=client.show_desk(desk).version)

    change(trial_set=crane_set)
    with pytest.raises(ProblemError, match="has to pass the question set 'Crane'"):
        client.publish_desk(desk)
    finished(client, client.begin_trial(crane_set, desk=desk, version="draft"))
    assert client.publish_desk(desk).number == 1
    change(evidence_needed=1.0)
    with pytest.raises(ProblemError, match="has to pass"):
        client.publish_desk(desk)
    finished(client, client.begin_trial(crane_set, desk=desk, version="draft"))
    with pytest.raises(ProblemError, match=r"loses 1 of the questions.*quay crane"):
        client.publish_desk(desk)
    change(max_losses=1, greeting="Hello")
    assert client.publish_desk(desk).number == 2
    # A change of the set needs new trials, of both versions.
    client.add_set_questions(crane_set, [s.SetQuestionIn(question="What is the siren?")])
    change(evidence_needed=0.5)
    finished(client, client.begin_trial(crane_set, desk=desk, version="draft"))
    with pytest.raises(ProblemError, match="published version has no trial"):
        client.publish_desk(desk)
    finished(client, client.begin_trial(crane_set, desk=desk))
    assert client.publish_desk(desk).number == 3
    change(trial_set=None, evidence_needed=0.4)
    assert client.publish_desk(desk).number == 4


@pytest.mark.parametrize(
    ("target", "message"),
    [
        ({}, "give a desk or a knowledge base"),
        ({"kb": "harbour-rules", "desk": "crews"}, "give a desk or a knowledge base"),
        ({"kb": "nowhere"}, "nowhere"),
        ({"kb": "harbour-rules", "edition": 9}, "There is no edition '9'"),
        ({"kb": "harbour-rules", "settings": {"length": "endless"}}, "length"),
        ({"desk": "crews", "version": 7}, "There is no version '7'"),
        ({"desk": "crews", "compare_with": "tria_none"}, "There is no trial"),
    ],
)
def test_trials_that_cannot_be(
    team: TeamSetup, storm: str, desk: str, crane_set: str, target: dict[str, object], message: str
) -> None:
    with pytest.raises((ProblemError, ValueError), match=message):
        team.client.begin_trial(crane_set, **target)  # type: ignore[arg-type]
    assert team.client.list_trials() == []


def test_an_empty_set_has_no_trial(team: TeamSetup, storm: str) -> None:
    slug = team.client.create_set("Empty").slug
    with pytest.raises(ProblemError, match="has no questions"):
        team.client.begin_trial(slug, kb=storm)


def test_a_trial_is_stopped_and_resumed(team: TeamSetup, storm: str) -> None:
    client = team.client
    slug = client.create_set("Long").slug
    questions = [s.SetQuestionIn(question=f"{CRANE} ({n})") for n in range(40)]
    client.add_set_questions(slug, questions)
    trial = client.begin_trial(slug, kb=storm)
    until(lambda: client.show_trial(trial.id).asked)
    stopped = client.stop_trial(trial.id)
    assert stopped.state == "stopped"
    with pytest.raises(ProblemError, match="paused or stopped"):
        client.resume_trial(finished(client, client.begin_trial(slug, kb=storm)).id)
    assert client.show_trial(trial.id).state == "stopped"
    client.resume_trial(trial.id)
    assert finished(client, trial).asked == 40
    client.delete_set(slug)
    assert client.list_trials() == []


def test_a_trial_is_paused_by_its_budget_and_its_model(
    team: TeamSetup, desk: str, crane_set: str, model_server: str
) -> None:
    client = team.client
    name = f"model of {team.slug}"
    with team.service.operator() as operator:
        operator.create_model(
            s.ModelIn(name=name, url=model_server, remote="honest", teams=[team.slug])
        )
        trial = client.begin_trial(crane_set, desk=desk, settings={"model": name}, max_tokens=1)
        paused = client.wait_for_trial(trial.id, 60)
        assert paused.state == "paused"
        assert "tokens that it may use" in paused.note
        assert paused.asked == 1
        assert paused.figures.tokens > 1
        operator.change_model(name, s.ModelChange(enabled=False))
        client.resume_trial(trial.id, max_tokens=1_000_000)
        paused = client.wait_for_trial(trial.id, 60)
        assert "did not write" in paused.note
        assert paused.asked == 1
        operator.change_model(name, s.ModelChange(enabled=True))
        client.resume_trial(trial.id)
        assert finished(client, trial).asked == 4
        kinds = [notice.kind for notice in client.list_notices().items]
        assert kinds.count("trial.paused") == 2
        operator.delete_model(name)


def test_a_killed_trial_goes_on_and_asks_nothing_twice(tmp_path: Path) -> None:
    running = Service(tmp_path / "data").start()
    try:
        team = new_team(running)
        kb = team.client.create_kb("Rules").slug
        team.client.add_document(kb, STORM, "storm.md", wait=True)
        slug = team.client.create_set("Long").slug
        questions = [
            s.SetQuestionIn(question=f"{CRANE} ({n})", history=["Hello!"]) for n in range(25)
        ]
        team.client.add_set_questions(slug, questions)
        trial = team.client.begin_trial(slug, kb=kb)
        for asked in (3, 9, 16):
            until(lambda: team.client.show_trial(trial.id).asked >= asked)  # noqa: B023
            running.kill()
            running.start()
        done = finished(team.client, trial)
        assert done.asked == 25
        results = team.client.list_trial_results(trial.id)
        assert len({one.answer_id for one in results}) == 25
        # Finished turns, without those that a kill interrupted: each question once.
        usage = team.client.usage(by="member").rows
        assert [row.name for row in usage] == ["trials"]
    finally:
        running.stop()


def test_a_trial_after_each_sync_says_what_was_lost(team: TeamSetup, storm: str) -> None:
    client = team.client
    source = client.connect_source(storm, s.SourceIn(name="Rules", kind="push", settings={}))

    def push(text: str) -> None:
        client.push_documents(storm, source.id, [s.PushedIn(id="gate", text=text)])

    settings = s.DeskSettings(kbs=[s.DeskKb(kb=storm)])
    desk = client.create_desk("Gate", settings).slug
    client.publish_desk(desk)
    slug = client.create_set("Gate").slug
    question = s.SetQuestionIn(question="When does the north gate open?", contains=["6:00"])
    client.add_set_questions(slug, [question])
    with pytest.raises(ProblemError, match="Name the desk"):
        client.change_set(slug, s.SetChange(schedule="after_sync"))
    client.change_set(slug, s.SetChange(desk=desk, schedule="after_sync"))
    push("The north gate opens at 6:00.")
    until(lambda: [one.state for one in client.list_trials(desk=desk)] == ["done"])
    (first,) = client.list_trials(desk=desk)
    assert first.scheduled
    assert first.figures.right.count == 1
    push("The north gate opens at 7:00.")
    until(lambda: [one.state for one in client.list_trials(desk=desk)] == ["done", "done"])
    until(lambda: any(n.kind == "trial.fell" for n in client.list_notices().items))
    assert client.list_trials(desk=desk)[0].figures.right.count == 0
