"""Approved answers on the command line."""

from __future__ import annotations

import json
from pathlib import Path

from tests.cli.conftest import Run
from tests.conftest import TeamSetup

QUESTION = "Who hands out parking permits?"


def test_from_draft_to_served_to_deleted(run: Run, team: TeamSetup, storm: str) -> None:
    def approved(*arguments: object) -> str:
        result = run("approved", *arguments, "--kb", storm)
        assert result.returncode == 0, result.stderr
        return result.stdout

    assert "No approved answers" in approved("list")
    made = approved(
        "add", QUESTION, "--text", "The gate office.", "--category", "Access",
        "--phrasing", "Where do I get a parking permit?", "--document", "storm-plan.md:0-12",
    )  # fmt: skip
    assert "is a draft" in made
    ref = made.split()[0]
    assert "is served" in approved("approve", ref)
    asked = run("ask", QUESTION, "--kb", storm).stdout
    assert "The gate office." in asked
    assert "Approved by key tests" in asked
    assert "“# Storm plan" in asked or "“Storm plan" in asked
    assert "served" in approved("match", "Where do I get a parking permit?")
    assert "version 3" in approved("change", ref, "--valid-until", "2030-01-31")
    shown = approved("show", ref, "--versions")
    assert "valid until 2030-01-31" in shown
    assert "Version 1" in shown
    assert "No approved answer has a source text" in approved("flags")
    assert "Access" in approved("list", "--state", "approved")
    assert "no longer served" in approved("retire", ref)
    assert approved("delete", ref, "--yes") == "Deleted.\n"


def test_files_and_answers(run: Run, team: TeamSetup, storm: str, tmp_path: Path) -> None:
    file = tmp_path / "answers.jsonl"
    line = {"question": QUESTION, "text": "The gate office."}
    file.write_text(json.dumps(line) + "\n")
    assert "1 created" in run("approved", "import", file, "--kb", storm).stdout
    exported = run("approved", "export", "--kb", storm).stdout
    assert json.loads(exported)["question"] == QUESTION
    file.write_text("oops\n")
    refused = run("approved", "import", file, "--kb", storm)
    assert (refused.returncode, "answers.jsonl:1:" in refused.stdout) == (1, True)
    assert "does not end in" in run("approved", "import", "x.txt", "--kb", storm).stderr
    given = team.client.ask(storm, "At what gust does the quay crane stop?")
    made = run("approved", "from-answer", given.turn_id, "--approve", "--kb", storm)
    assert "is served from now on" in made.stdout
    refused = run("approved", "add", QUESTION, "--kb", storm)
    assert "--text" in refused.stderr
