"""What a desk demands before it is published, and who sees what of trials and gaps."""

from __future__ import annotations

import pytest

from fontanel import schemas as s
from fontanel.client import Client, NotFound, ProblemError
from tests.conftest import TeamSetup, new_team, until

CRANE = "At what gust does the quay crane stop?"


@pytest.fixture
def crane_set(team: TeamSetup) -> str:
    slug = team.client.create_set("Crane").slug
    questions = [
        s.SetQuestionIn(question=CRANE, contains=["38 knots"]),
        s.SetQuestionIn(question=CRANE, contains=["a hundred knots"]),
    ]
    team.client.add_set_questions(slug, questions)
    return slug


def finished(client: Client, trial: s.TrialOut) -> s.TrialOut:
    result = client.wait_for_trial(trial.id, 60)
    assert result.state == "done", result.note
    return result


def test_a_first_version_is_compared_with_what_is_expected(
    team: TeamSetup, storm: str, crane_set: str
) -> None:
    client = team.client
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=storm)], trial_set=crane_set)
    desk = client.create_desk("Crews", settings)
    assert desk.draft.trial_set == client.show_set(crane_set).id
    finished(client, client.begin_trial(crane_set, desk=desk.slug))
    with pytest.raises(ProblemError, match="loses 1 of the questions"):
        client.publish_desk(desk.slug)
    version = client.show_desk(desk.slug).version
    client.change_desk(desk.slug, {"max_losses": 1}, version=version)
    assert client.publish_desk(desk.slug).number == 1


def test_a_set_that_is_gone_is_said(team: TeamSetup, storm: str, crane_set: str) -> None:
    client = team.client
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=storm)], trial_set=crane_set)
    desk = client.create_desk("Crews", settings).slug
    client.delete_set(crane_set)
    with pytest.raises(ProblemError, match="question set"):
        client.publish_desk(desk)
    version = client.show_desk(desk).version
    with pytest.raises(ProblemError, match="no question set 'nothing'"):
        client.change_desk(desk, {"trial_set": "nothing"}, version=version)
    client.change_desk(desk, {"trial_set": None}, version=version)
    assert client.publish_desk(desk).number == 1


def test_trials_with_other_settings_or_of_another_desk_do_not_count(
    team: TeamSetup, storm: str, crane_set: str
) -> None:
    client = team.client
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=storm)], trial_set=crane_set, max_losses=1)
    desk = client.create_desk("Crews", settings).slug
    other = client.create_desk("Agents", settings).slug
    finished(client, client.begin_trial(crane_set, desk=other))
    finished(client, client.begin_trial(crane_set, desk=desk, settings={"length": "short"}))
    with pytest.raises(ProblemError, match="has to pass"):
        client.publish_desk(desk)
    finished(client, client.begin_trial(crane_set, desk=desk, version="draft"))
    assert client.publish_desk(desk).number == 1


def test_one_team_sees_nothing_of_anothers(team: TeamSetup, storm: str, crane_set: str) -> None:
    client = team.client
    trial = finished(client, client.begin_trial(crane_set, kb=storm))
    client.ask(storm, "Who owns the moon?")
    until(lambda: client.list_gaps())
    gap = client.list_gaps()[0].id
    stranger = new_team(team.service).client
    assert stranger.list_sets() == []
    assert stranger.list_trials() == []
    assert stranger.list_gaps() == []
    assert stranger.list_feedback() == []
    assert stranger.list_changed_answers() == []
    own = stranger.create_set("Own").slug
    for attempt in (
        lambda: stranger.show_set(client.show_set(crane_set).id),
        lambda: stranger.show_trial(trial.id),
        lambda: stranger.show_gap(gap),
        lambda: stranger.begin_trial(own, kb=client.show_kb(storm).id),
        lambda: stranger.collect_set_questions(own, approved_of=client.show_kb(storm).id),
    ):
        with pytest.raises((NotFound, ProblemError)):
            attempt()


def test_a_set_has_a_maximum_of_questions(team: TeamSetup) -> None:
    client = team.client
    slug = client.create_set("Many").slug
    lines = "".join(f'{{"question": "Question {n}?"}}\n' for n in range(5000))
    assert client.import_set(slug, lines).added == 5000
    with pytest.raises(ProblemError, match="at most 5,000 questions"):
        client.add_set_questions(slug, [s.SetQuestionIn(question="One more?")])
    questions = client.list_set_questions(slug)
    assert [one.number for one in questions] == list(range(1, 5001))
    assert client.show_set(slug).questions == 5000


def test_comparing_needs_one_set(team: TeamSetup, storm: str, crane_set: str) -> None:
    client = team.client
    other = client.create_set("Other").slug
    client.add_set_questions(other, [s.SetQuestionIn(question=CRANE)])
    first = finished(client, client.begin_trial(crane_set, kb=storm))
    second = finished(client, client.begin_trial(other, kb=storm))
    with pytest.raises(ProblemError, match="same question set"):
        client.compare_trials(first.id, second.id)


def test_a_trial_of_a_deleted_knowledge_base_goes_with_it(
    team: TeamSetup, storm: str, crane_set: str
) -> None:
    client = team.client
    trial = finished(client, client.begin_trial(crane_set, kb=storm))
    client.delete_kb(storm)
    with pytest.raises(NotFound):
        client.show_trial(trial.id)
