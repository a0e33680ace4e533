"""Questions that a model proposes: checked, paid for once, and asked for again when it recovers."""

from __future__ import annotations

import sqlite3
from functools import partial
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Client
from tests.conftest import STORM, Service, TeamSetup, new_team, until

CRANE = "38 knots"


def use_model(service: Service, url: str, remote: str, **more: object) -> str:
    """Register a model that behaves as a simulated one; return its name."""
    name = f"{remote}-proposer"
    with service.operator() as operator:
        if name not in {one.name for one in operator.list_models()}:
            fields = {"name": name, "url": url, "remote": remote, "price_read": 2.0, "tries": 1}
            operator.create_model(s.ModelIn.model_validate({**fields, **more}))
    return name


def proposed(client: Client, kb: str, document: str = "storm-plan.md") -> s.DocumentProposals:
    client.propose_questions(kb, document)
    until(lambda: not client.document_proposals(kb, document).waiting)
    return client.document_proposals(kb, document)


def spent(client: Client) -> s.UsageRow | None:
    rows = client.usage(by="member").rows
    return next((row for row in rows if row.name == "proposing questions"), None)


def test_what_a_model_proposes_is_checked_and_counted(
    team: TeamSetup, storm: str, model_server: str
) -> None:
    client = team.client
    client.change_kb(storm, proposer=use_model(team.service, model_server, "honest"))
    assert client.show_kb(storm).proposer == "honest-proposer"
    result = proposed(client, storm)
    assert result.error == ""
    assert (
        result.passages
        == result.passages_read
        == len(list(client.list_passages(storm, "storm-plan.md")))
    )
    crane = next(one for one in result.items if CRANE in one.answer)
    assert "quay crane" in crane.question
    text = client.document_text(storm, "storm-plan.md").text
    assert text[crane.start : crane.end] == crane.quote
    assert crane.relevance >= 0.5
    row = spent(client)
    assert row is not None
    assert row.questions == 0
    assert row.tokens_read > 100
    assert row.cost > 0
    # The same text is not paid for again, whoever asks for it.
    again = proposed(client, storm)
    assert [one.id for one in again.items] == [one.id for one in result.items]
    assert spent(client) == row
    # Of a new revision only the passages that changed are read.
    document = client.show_document(storm, "storm-plan.md")
    changed = STORM.decode().replace("38 knots", "37 knots")
    client.rewrite_document(storm, document.id, changed, document.version)
    client.wait_for_document(storm, "storm-plan.md")
    newer = proposed(client, storm)
    assert any("37 knots" in one.answer for one in newer.items)
    later = spent(client)
    assert later is not None
    assert row.tokens_read < later.tokens_read <= 2 * row.tokens_read


def test_another_language_needs_a_model(team: TeamSetup, kb: str, model_server: str) -> None:
    client = team.client
    text = (
        "# Regeln\n\n" + "The Regel 1 ist 5 Tage am Liegeplatz, wenn der Hafenmeister es erlaubt. "
    )
    client.write_document(kb, "regeln.md", text + "Das Schiff darf fünf Tage bleiben. " * 6)
    client.wait_for_document(kb, "regeln.md")
    client.change_kb(kb, proposer=use_model(team.service, model_server, "honest"))
    assert proposed(client, kb, "regeln.md").error == ""


@pytest.mark.parametrize("remote", ["lying", "malformed", "empty"])
def test_what_is_not_in_the_passage_is_not_proposed(
    team: TeamSetup, storm: str, model_server: str, remote: str
) -> None:
    client = team.client
    client.change_kb(storm, proposer=use_model(team.service, model_server, remote))
    client.propose_questions(storm, "storm-plan.md")
    until(
        lambda: (
            (found := client.document_proposals(storm, "storm-plan.md")).error or not found.waiting
        )
    )
    assert client.document_proposals(storm, "storm-plan.md").items == []


def test_a_model_that_fails_is_named_and_another_goes_on(
    team: TeamSetup, storm: str, model_server: str
) -> None:
    client = team.client
    client.change_kb(storm, proposer=use_model(team.service, model_server, "failing"))
    client.propose_questions(storm, "storm-plan.md")
    until(lambda: client.document_proposals(storm, "storm-plan.md").error)
    waiting = client.document_proposals(storm, "storm-plan.md")
    assert "The model failing-proposer failed" in waiting.error
    assert waiting.waiting
    client.change_kb(storm, proposer=use_model(team.service, model_server, "honest"))
    until(lambda: not client.document_proposals(storm, "storm-plan.md").waiting)
    after = client.document_proposals(storm, "storm-plan.md")
    assert after.error == ""
    assert after.items


def test_a_spent_budget_is_said(team: TeamSetup, storm: str, model_server: str) -> None:
    client = team.client
    name = use_model(team.service, model_server, "honest")
    client.change_kb(storm, proposer=name)
    client.change_team(s.TeamChange(monthly_tokens=0))
    client.propose_questions(storm, "storm-plan.md")
    until(lambda: client.document_proposals(storm, "storm-plan.md").error)
    error = client.document_proposals(storm, "storm-plan.md").error
    assert f"The model {name} proposes nothing: the team's tokens" in error
    # Rules need no tokens.
    client.change_kb(storm, proposer="built-in")
    until(lambda: not client.document_proposals(storm, "storm-plan.md").waiting)
    assert client.document_proposals(storm, "storm-plan.md").error == ""


def _has_read(client: Client, kb: str, count: int) -> bool:
    return client.document_proposals(kb, "rules.md").passages_read >= count


def test_nothing_is_paid_for_twice_after_a_kill(tmp_path: Path, model_server: str) -> None:
    service = Service(tmp_path / "data").start()
    try:
        client = new_team(service).client
        kb = client.create_kb("Long rules").slug
        sections = [
            f"# Section {n}\n\nThe quay crane of basin {n} stops at a gust of {n + 20} knots. "
            + "The mooring crew waits at the gate and the agent calls the duty officer. " * 12
            for n in range(24)
        ]
        client.add_document(kb, "\n\n".join(sections).encode(), "rules.md", wait=True)
        total = len(list(client.list_passages(kb, "rules.md")))
        assert total >= 24
        client.change_kb(kb, proposer=use_model(service, model_server, "honest"))
        client.propose_questions(kb, "rules.md")
        for count in (4, 12):
            until(partial(_has_read, client, kb, count))
            service.kill()
            service.start()
        until(lambda: not client.document_proposals(kb, "rules.md").waiting)
        result = client.document_proposals(kb, "rules.md")
        assert (result.passages_read, result.passages) == (total, total)
        with sqlite3.connect(service.data / "fontanel.db") as records:
            (calls,) = records.execute(
                "select count(*) from uses where outcome = 'proposed'"
            ).fetchone()
        assert calls == total
    finally:
        service.stop()
