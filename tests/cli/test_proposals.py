"""Proposed questions, second versions and changed answers on the command line."""

from __future__ import annotations

import json

import pytest

from fontanel import schemas as s
from tests.cli.conftest import Run
from tests.conftest import Service, TeamSetup, until

RULES = "# Rules\n\nFresh water costs 3.20 crowns a tonne. A ship may lie at a berth for 5 days.\n"


@pytest.fixture
def rules(team: TeamSetup, kb: str) -> str:
    team.client.write_document(kb, "rules.md", RULES)
    team.client.wait_for_document(kb, "rules.md")
    return kb


def test_questions_are_proposed_changed_and_decided(run: Run, team: TeamSetup, rules: str) -> None:
    def ok(*arguments: object) -> str:
        result = run("proposal", *arguments, "--kb", rules)
        assert result.returncode == 0, result.stderr
        return result.stdout

    assert "No such questions" in ok("list")
    proposed = ok("run", "rules.md")
    assert "How much does fresh water cost?" in proposed
    assert "questions passed." in proposed
    items = json.loads(ok("list", "--json"))
    by_question = {one["question"]: one["id"] for one in items}
    water = by_question["How much does fresh water cost?"]
    berth = by_question["How long may a ship lie at a berth?"]
    assert "is changed" in ok("change", water, "--answer", "3.20 crowns.")
    assert "Say what to change" in run("proposal", "change", water, "--kb", rules).stderr
    assert "1 approved" in ok("approve", water, "--category", "Prices")
    assert "1 dismissed" in ok("dismiss", berth)
    assert berth in ok("list", "--document", "rules.md", "--state", "dismissed")
    assert "1 open again" in ok("open", berth)
    assert "3.20 crowns." in run("approved", "list", "--kb", rules).stdout or team.client.ask(
        rules, "How much does fresh water cost?"
    ).text.startswith("3.20")
    begun = ok("run", "rules.md", "--no-wait")
    assert "being looked for" in begun
    changed = run("kb", "change", rules, "--propose-questions", "yes")
    assert changed.returncode == 0
    assert team.client.show_kb(rules).proposes_questions


def test_a_document_in_another_language_has_no_proposals(
    run: Run, team: TeamSetup, kb: str
) -> None:
    sentence = "Das Schiff darf fünf Tage am Liegeplatz liegen, wenn der Hafenmeister zustimmt. "
    team.client.write_document(kb, "regeln.md", sentence * 8)
    team.client.wait_for_document(kb, "regeln.md")
    result = run("proposal", "run", "regeln.md", "--kb", kb)
    assert result.returncode == 1
    assert "English documents only" in result.stdout


def test_a_second_version_is_served_compared_and_published(
    run: Run, team: TeamSetup, rules: str
) -> None:
    client = team.client
    desk = client.create_desk("Crews", s.DeskSettings(kbs=[s.DeskKb(kb=rules)])).slug
    client.publish_desk(desk)
    client.change_desk(desk, {"length": "short"}, version=client.show_desk(desk).version)
    client.publish_desk(desk)

    def second(*arguments: object) -> str:
        result = run("desk", "second", desk, *arguments)
        assert result.returncode == 0, result.stderr
        return result.stdout

    assert run("desk", "second", desk).returncode == 3
    assert run("desk", "second", desk, "--share", "5").returncode == 2
    assert "30 % of the askers get version 1." in second("--version", 1, "--share", 30)
    client.ask_desk(desk, "How much does fresh water cost?")
    shown = second()
    assert "version 2" in shown
    assert "30 % of the askers" in shown
    assert "All askers get version 2." in second("--end")
    second("--version", 1, "--share", 99)
    assert "All askers get version 1." in second("--promote")


def test_answers_whose_text_changed_are_listed(run: Run, team: TeamSetup, rules: str) -> None:
    client = team.client
    assert "No answer cites" in run("answer", "changed").stdout
    answer = client.ask(rules, "How much does fresh water cost?")
    row = client.show_document(rules, "rules.md")
    client.rewrite_document(rules, row.id, RULES.replace("3.20", "4.10"), row.version)
    client.wait_for_document(rules, "rules.md")
    until(lambda: client.list_changed_answers())
    listed = run("answer", "changed", "--contradicted").stdout
    assert answer.turn_id in listed
    assert "now:    Fresh water costs 4.10 crowns" in listed


def test_a_team_shows_who_asked(run: Run, team: TeamSetup) -> None:
    assert run("team", "change", "--show-askers", "yes").returncode == 0
    assert run("team", "change").returncode == 2
    result = run("team", "change", "--show-askers", "no")
    assert result.returncode == 0, result.stderr


def test_a_model_proposes(
    run: Run, team: TeamSetup, storm: str, service: Service, model_server: str
) -> None:
    with service.operator() as operator:
        for remote in ("honest", "failing"):
            operator.create_model(
                s.ModelIn(name=f"cli-{remote}-asker", url=model_server, remote=remote, tries=1)
            )
    assert run("kb", "change", storm, "--proposer", "cli-honest-asker").returncode == 0
    run("kb", "change", storm, "--propose-questions", "no")
    proposed = run("proposal", "run", "storm-plan.md", "--kb", storm)
    assert proposed.returncode == 0, proposed.stderr
    assert "questions passed." in proposed.stdout
    run("kb", "change", storm, "--proposer", "cli-failing-asker", "--propose-questions", "yes")
    assert "proposed by cli-failing-asker" in run("kb", "show", storm).stdout
    failed = run("proposal", "run", "storm-plan.md", "--kb", storm)
    assert failed.returncode == 1
    assert "The model cli-failing-asker failed" in failed.stdout
    refused = run("kb", "change", storm, "--proposer", "nobody")
    assert "'nobody' cannot be used" in refused.stderr
