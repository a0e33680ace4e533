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


DEPTH = "How deep is Berth 4?"


def test_an_edition_that_loses_a_question_is_not_activated(team: TeamSetup, storm: str) -> None:
    client = team.client
    own = client.create_set("Berths").slug
    client.add_set_questions(own, [s.SetQuestionIn(question=DEPTH, contains=["6.8"])])
    changed = client.change_kb(storm, trial_set=own)
    assert (changed.trial_set, changed.max_losses) == (client.show_set(own).id, 0)
    split = s.Splitting(target_tokens=1000, min_tokens=500, table_mode="single")
    rows = client.build_edition(storm, split, wait=True)
    settings = {"evidence_needed": 0.6}

    def activate() -> s.EditionOut:
        return client.activate_edition(storm, rows.number)

    def ask(edition: int | None = None) -> s.TrialOut:
        begun = client.begin_trial(own, kb=storm, edition=edition, settings=settings)
        return finished(client, begun)

    with pytest.raises(ProblemError, match="Edition 2 has to pass the question set 'Berths' first"):
        activate()
    # A single row is less evident than the table: at this threshold its answer is declined.
    assert ask(rows.number).label == "Harbour rules, edition 2"
    with pytest.raises(ProblemError, match="active edition has no trial"):
        activate()
    ask()
    with pytest.raises(ProblemError, match=r"Edition 2 loses 1 of .*How deep is Berth 4"):
        activate()
    assert client.show_kb(storm).splitting.table_mode == "packed"
    client.change_kb(storm, max_losses=1)
    assert activate().active
    # The way back needs a trial only of what is active by now: it is there.
    assert client.activate_edition(storm, 1).active
    client.delete_set(own)
    with pytest.raises(ProblemError, match="question set that has to be passed is gone"):
        activate()
    assert client.change_kb(storm, trial_set="").trial_set is None
    assert activate().active


def test_what_a_knowledge_base_names_has_to_be_there(team: TeamSetup, storm: str) -> None:
    client = team.client
    own = client.create_set("Berths").slug
    with pytest.raises(ProblemError, match="no question set 'nothing'"):
        client.change_kb(storm, trial_set="nothing")
    with pytest.raises(ProblemError, match="The model 'nothing' cannot be used"):
        client.change_kb(storm, proposer="nothing")
    key = client.make_key("only one", "editor", kbs=[storm])
    with Client(team.service.url, key.secret, team.slug) as limited:
        with pytest.raises(ProblemError, match="limited to some knowledge bases"):
            limited.change_kb(storm, trial_set=own)
        assert limited.change_kb(storm, max_losses=2).max_losses == 2


def test_a_limited_key_may_change_a_desk_that_has_a_set_to_pass(
    team: TeamSetup, storm: str, crane_set: str
) -> None:
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=storm)], trial_set=crane_set)
    desk = team.client.create_desk("Crews", settings)
    key = team.client.make_key("only one", "editor", kbs=[storm])
    with Client(team.service.url, key.secret, team.slug) as limited:
        changed = limited.change_desk(desk.slug, {"greeting": "Ahoy"}, version=desk.version)
    assert (changed.draft.greeting, changed.draft.trial_set) == ("Ahoy", desk.draft.trial_set)
