"""Desks, models, answers and use on the command line."""

from __future__ import annotations

import json
from collections.abc import Iterator

import pytest

from fontanel import schemas as s
from tests.cli.conftest import Run
from tests.conftest import Service, TeamSetup

QUESTION = "At what gust does the quay crane stop?"


@pytest.fixture
def writer(service: Service, model_server: str) -> Iterator[str]:
    with service.operator() as operator:
        operator.create_model(s.ModelIn(name="cli-writer", url=model_server, remote="lying"))
        yield "cli-writer"
        operator.delete_model("cli-writer")


def test_a_desk_from_draft_to_record(run: Run, team: TeamSetup, storm: str, writer: str) -> None:
    assert "No desks yet" in run("desk", "list").stdout
    made = run(
        "desk",
        "create",
        "Crane desk",
        "--kb",
        f"{storm}=cranes",
        "--evidence-needed",
        "0",
        "--set",
        "context_tokens=800",
    )
    assert "crane-desk is a draft" in made.stdout
    assert "not published" in run("ask", "--desk", "crane-desk", QUESTION).stderr
    drafted = run("ask", "--desk", "crane-desk", "--draft", QUESTION)
    assert "38 knots" in drafted.stdout
    assert "[1] Storm plan" in drafted.stdout
    assert (
        "Version 1 is published" in run("desk", "publish", "crane-desk", "--note", "first").stdout
    )
    assert (
        "changed"
        in run(
            "desk", "change", "crane-desk", "--model", writer, "--instructions", "Be brief."
        ).stdout
    )
    compared = run("desk", "compare", "crane-desk").stdout
    assert '+ "cli-writer"' in compared
    assert "+ Be brief." in compared
    assert run("desk", "publish", "crane-desk").returncode == 0
    written = run("ask", "--desk", "crane-desk", QUESTION)
    assert "(?)" in written.stdout
    assert "published" in run("desk", "versions", "crane-desk").stdout
    assert "context tokens" in run("desk", "show", "crane-desk").stdout
    rows = json.loads(run("desk", "answers", "crane-desk", "--json").stdout)
    assert [row["composer"] for row in rows] == [writer, "built-in"]
    shown = run("answer", "show", rows[0]["id"], "--prompt").stdout
    for part in ("evidence check", "packing", "<sources>", "the model's own words", "weak"):
        assert part in shown
    assert (
        run(
            "answer", "feedback", rows[0]["id"], "crane-desk", "unhelpful", "--reason", "wrong"
        ).returncode
        == 0
    )
    assert QUESTION in run("desk", "answers", "crane-desk", "--unhelpful").stdout
    assert run("answer", "again", rows[1]["id"]).returncode == 0
    assert "Crane desk" in run("usage", "show", "--by", "desk").stdout
    assert run("usage", "show", "--by", "model", "--csv").stdout.startswith("key,name,questions")
    lines = run("answer", "export", "--desk", "crane-desk", "--since", "2024-01-01").stdout
    assert [json.loads(line)["desk_version"] for line in lines.splitlines()]
    assert run("answer", "export", "--until", "2024-01-01").stdout == ""
    assert "Version 1 is published" in run("desk", "activate", "crane-desk", "1").stdout
    link = run("desk", "link", "crane-desk", "Crew", "--per-minute", "5").stdout
    assert "#dl_" in link
    assert "members only  never  never" in run("desk", "links", "crane-desk").stdout
    assert run("desk", "unlink", "crane-desk", "Crew", "--yes").returncode == 0
    assert "revoked" in run("desk", "links", "crane-desk").stdout
    assert run("desk", "delete", "crane-desk", "--yes").returncode == 0
    assert run("desk", "show", "crane-desk").returncode == 3


def test_slips_are_named(run: Run, team: TeamSetup, storm: str) -> None:
    run("desk", "create", "Desk", "--kb", storm)
    assert "not a setting" in run("desk", "change", "desk", "--set", "context_tokens").stderr
    refused = run("desk", "change", "desk", "--set", "evidence_needed=9")
    assert (refused.returncode, "evidence_needed" in refused.stderr) == (1, True)
    assert "Name what to change" in run("desk", "change", "desk").stderr
    assert run("model", "list").returncode == 4
    assert "None but the built-in composer" in run("model", "usable").stdout
    changed = run("team", "change", "--kept-days", "30", "--monthly-tokens", "1000").stdout
    assert "1,000 tokens a month" in changed
    assert "conversations kept for 30 days" in changed
    assert "no bound on tokens" in run("team", "change", "--monthly-tokens", "0").stdout
