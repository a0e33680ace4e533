"""Question sets and trials on the command line."""

from __future__ import annotations

import json
from pathlib import Path

from tests.cli.conftest import Run
from tests.conftest import TeamSetup, until

CRANE = "At what gust does the quay crane stop?"


def test_a_set_is_made_asked_and_compared(run: Run, team: TeamSetup, storm: str) -> None:
    def ok(*arguments: object) -> str:
        result = run(*arguments)
        assert result.returncode == 0, result.stderr
        return result.stdout

    assert "No question sets" in ok("set", "list")
    assert "crane is created" in ok("set", "create", "Crane", "--about", "What crews ask.")
    added = ok("set", "add", "crane", CRANE, "--contains", "38 knots", "--kind", "limits")
    assert "contains '38 knots'" in added
    moon = ok("set", "add", "crane", "Who owns the moon?", "--must-decline").split()[0]
    shown = ok("set", "show", "crane")
    assert "must be declined" in shown
    assert "[limits]" in shown
    first = ok("trial", "run", "crane", "--kb", storm)
    assert "100 % (2/2)" in first
    assert "right of limits" in first
    ok("desk", "create", "Crews", "--kb", storm)
    compared = ok(
        "trial", "run", "crane", "--desk", "crews", "--against", "draft",
        "--set", "evidence_needed=1.0",
    )  # fmt: skip
    assert "0 won, 1 lost" in compared
    assert f"lost  {CRANE}" in compared
    trials = json.loads(ok("trial", "list", "--set", "crane", "--json"))
    assert [one["state"] for one in trials] == ["done"] * 3
    after, before = trials[0]["id"], trials[1]["id"]
    assert "0 won, 1 lost" in ok("trial", "compare", before, after)
    missed = ok("trial", "show", after)
    assert "declined  At what gust" in missed
    assert "moon" not in missed
    assert "moon" in ok("trial", "show", after, "--all")
    exported = [json.loads(line) for line in ok("trial", "export", after).splitlines()]
    assert [one["result"] for one in exported] == ["declined", "declined_rightly"]
    assert ok("set", "remove", "crane", moon) == "Removed.\n"
    assert ok("trial", "delete", after, "--yes") == "Deleted.\n"
    assert ok("set", "delete", "crane", "--yes") == "Deleted.\n"


def test_files_answers_and_schedules(run: Run, team: TeamSetup, storm: str, tmp_path: Path) -> None:
    run("set", "create", "Crane")
    file = tmp_path / "questions.csv"
    file.write_text("question,contains,must_decline\nWho stops it?,the foreman,\n")
    assert run("set", "import", "crane", file).stdout == "1 questions added.\n"
    file.write_text("question,must_decline\n,yes\n")
    failed = run("set", "import", "crane", file)
    assert failed.returncode == 1
    assert "questions.csv:2: question:" in failed.stdout
    assert run("set", "export", "crane", "--form", "csv").stdout.startswith("question,history")
    answer = team.client.ask(storm, CRANE)
    collected = run("set", "collect", "crane", "--answer", answer.turn_id)
    assert collected.stdout == "1 question added.\n"
    team.client.ask(storm, "Who owns the moon?")
    until(lambda: team.client.list_gaps())
    taken = run("set", "collect", "crane", "--gap", team.client.list_gaps()[0].id)
    assert taken.stdout == "1 question added.\n"
    none = run("set", "collect", "crane", "--proposed-of", storm)
    assert none.stdout == "0 questions added.\n"
    assert "Give --answer" in run("set", "collect", "crane").stderr
    refused = run("set", "change", "crane", "--schedule", "nightly")
    assert "Name the desk" in refused.stderr
    run("desk", "create", "Crews", "--kb", storm)
    changed = run("set", "change", "crane", "--desk", "crews", "--schedule", "nightly")
    assert changed.stdout == "crane is changed.\n"
    assert "nightly" in run("set", "list").stdout
    assert "Say what to change" in run("set", "change", "crane").stderr


def test_a_trial_is_stopped_and_resumed(run: Run, team: TeamSetup, storm: str) -> None:
    run("set", "create", "Crane")
    run("set", "add", "crane", CRANE)
    begun = run("trial", "run", "crane", "--kb", storm, "--no-wait")
    trial = begun.stdout.split()[1].rstrip(":")
    assert "Stopped after" in run("trial", "stop", trial).stdout
    if team.client.show_trial(trial).state == "stopped":
        assert "1 of 1 asked" in run("trial", "resume", trial).stdout
    assert team.client.show_trial(trial).state == "done"
    assert run("trial", "run", "crane", "--kb", storm, "--version", "3").returncode == 2
    assert run("trial", "run", "crane").returncode == 2


def test_an_edition_has_to_pass_a_set(run: Run, team: TeamSetup, storm: str) -> None:
    def ok(*arguments: object) -> str:
        result = run(*arguments)
        assert result.returncode == 0, result.stderr
        return result.stdout

    ok("set", "create", "Crane")
    ok("set", "add", "crane", CRANE, "--contains", "38 knots")
    assert "activated without a trial" in ok("kb", "show", storm)
    ok("kb", "change", storm, "--trial-set", "crane", "--max-losses", "3")
    assert "lose at most 3 questions" in ok("kb", "show", storm)
    ok("edition", "build", "--kb", storm, "--target", "60")
    refused = run("edition", "activate", "--kb", storm, "2")
    assert refused.returncode == 1
    assert "Edition 2 has to pass the question set 'Crane' first." in refused.stderr
    assert "Run a trial of edition 2" in refused.stderr
    for edition in ("1", "2"):
        assert "100 % (1/1)" in ok("trial", "run", "crane", "--kb", storm, "--edition", edition)
    assert "2" in ok("edition", "activate", "--kb", storm, "2")
    ok("kb", "change", storm, "--trial-set", "none", "--propose-questions", "yes")
    shown = ok("kb", "show", storm)
    assert "activated without a trial" in shown
    assert "proposed" in shown
