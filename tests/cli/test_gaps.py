"""Gaps, feedback and coverage on the command line."""

from __future__ import annotations

import json

from fontanel import schemas as s
from tests.cli.conftest import Run
from tests.conftest import TeamSetup, until

CANTEEN = "When is the canteen open?"


def test_a_gap_is_worked_on(run: Run, team: TeamSetup, storm: str) -> None:
    def ok(*arguments: object) -> str:
        result = run(*arguments)
        assert result.returncode == 0, result.stderr
        return result.stdout

    assert "No open gaps" in ok("gap", "list")
    first = team.client.ask(storm, CANTEEN)
    second = team.client.ask(storm, CANTEEN.upper())
    until(lambda: [one.count for one in team.client.list_gaps()] == [2])
    assert "2 declined" in ok("gap", "list")
    gap = json.loads(ok("gap", "list", "--json"))[0]["id"]
    shown = ok("gap", "show", gap)
    assert "write a document or connect a source" in shown
    assert first.turn_id in shown
    assert "Assigned to I. Varda." in ok("gap", "assign", gap, "I. Varda")
    assert ok("gap", "comment", gap, "Ask the caterer.") == "Added.\n"
    alone = ok("gap", "take-out", gap, second.turn_id).split()[0]
    assert alone != gap
    assert "Resolved." in ok("gap", "resolve", gap, "--by", "not_needed")
    resolved = ok("gap", "show", gap)
    assert "resolved: not needed" in resolved
    assert "key tests: Ask the caterer." in resolved
    assert "Open again." in ok("gap", "open", gap)
    assert run("gap", "show", "gap_none").returncode == 3


def test_feedback_is_answered(run: Run, team: TeamSetup, storm: str) -> None:
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=storm)])
    desk = team.client.create_desk("Crews", settings).slug
    team.client.publish_desk(desk)
    answer = team.client.ask_desk(desk, "At what gust does the quay crane stop?")
    assert "No feedback" in run("feedback", "list").stdout
    run("answer", "feedback", answer.turn_id, desk, "unhelpful", "--reason", "wrong")
    listed = run("feedback", "list", "--desk", desk).stdout
    assert "the asker: wrong" in listed
    ref = listed.split()[0]
    assert "Assigned to nobody." in run("feedback", "assign", ref, "").stdout
    assert "The asker sees" in run("feedback", "reply", ref, "Corrected.", "--keep-open").stdout
    assert "key tests replied: Corrected." in run("feedback", "list").stdout
    assert run("feedback", "handle", ref).stdout == "Handled.\n"
    assert "No feedback" in run("feedback", "list").stdout
    assert ref in run("feedback", "list", "--all").stdout


def test_coverage_is_shown(run: Run, team: TeamSetup, storm: str) -> None:
    team.client.ask(storm, "At what gust does the quay crane stop?")
    shown = run("kb", "coverage", "--kb", storm).stdout
    assert "storm-plan.md" in shown
    assert "never" not in shown
    assert "No such documents." in run("kb", "coverage", "--kb", storm, "--unused", "30").stdout
    passages = run("document", "coverage", "storm-plan.md", "--kb", storm).stdout
    assert "characters" in passages
