"""Who describes documents, from the command line."""

from __future__ import annotations

import json
from collections.abc import Iterator

import pytest

from fontanel import schemas as s
from tests.cli.conftest import Run
from tests.conftest import Service, TeamSetup, until


@pytest.fixture
def describer(service: Service, model_server: str) -> Iterator[str]:
    with service.operator() as operator:
        operator.create_model(s.ModelIn(name="cli-describer", url=model_server, remote="honest"))
        yield "cli-describer"
        operator.delete_model("cli-describer")


def test_a_model_is_chosen_watched_and_taken_away(
    run: Run, team: TeamSetup, storm: str, describer: str
) -> None:
    assert "the documents' own words" in run("kb", "show", storm).stdout
    changed = run(
        "kb", "change", storm, "--describer", describer, "--description", "What to do in a gale"
    )
    assert changed.returncode == 0
    assert "What to do in a gale" in changed.stdout
    assert f"described by {describer}" in changed.stdout
    until(lambda: team.client.show_document(storm, "storm-plan.md").described_by)
    assert f"{describer}: 1 described" in run("kb", "show", storm).stdout
    shown = run("document", "show", "storm-plan.md", "--kb", storm).stdout
    assert describer in shown
    result = json.loads(run("kb", "show", storm, "--json").stdout)
    assert result["describing"] == {
        "model": describer,
        "described": 1,
        "waiting": 0,
        "failed": 0,
        "error": None,
    }
    back = run("kb", "change", storm, "--describer", "built-in").stdout
    assert "the documents' own words" in back
    assert "What to do in a gale" in back


def test_a_kb_is_created_with_its_describer(run: Run, describer: str) -> None:
    assert run("kb", "create", "Scans", "--describer", describer).returncode == 0
    assert f"{describer}: 0 described" in run("kb", "show", "scans").stdout


def test_a_model_that_is_not_there_is_named(run: Run, storm: str) -> None:
    refused = run("kb", "change", storm, "--describer", "nobody")
    assert refused.returncode != 0
    assert "'nobody' cannot be used" in refused.stderr
    assert len(refused.stderr.strip().splitlines()) == 1


def test_the_failure_of_a_model_is_told(
    run: Run, team: TeamSetup, storm: str, service: Service, model_server: str
) -> None:
    with service.operator() as operator:
        operator.create_model(s.ModelIn(name="cli-liar", url=model_server, remote="lying"))
    run("kb", "change", storm, "--describer", "cli-liar")

    def failed() -> bool:
        message = team.client.show_kb(storm).describing
        return message is not None and message.failed == 1

    until(failed)
    shown = run("kb", "show", storm).stdout
    assert "1 failed" in shown
    assert "which the document does not say" in " ".join(shown.split())
    with service.operator() as operator:
        operator.delete_model("cli-liar")
    assert "there is no model of that name" in " ".join(run("kb", "show", storm).stdout.split())
