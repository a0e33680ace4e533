"""Descriptions by a model: what is accepted, its cost, failures, and the index."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Client, Invalid, Unreachable
from tests.conftest import STORM, Service, TeamSetup, new_team, until

SCAN = (
    b"The duty officer closes the outer berth when the wind passes 38 knots.\n\nShips double their"
    b" lines before that.\n"
)
SENTENCE = "The duty officer closes the outer berth when the wind passes 38 knots."


@pytest.fixture
def models(service: Service, model_server: str) -> Iterator[list[str]]:
    """Models of these names; each behaves as its name says."""
    names = ["honest", "lying", "failing", "whole"]
    with service.operator() as operator:
        for name in names:
            operator.create_model(
                s.ModelIn(
                    name=f"{name}-describer", url=model_server, remote=name, price_read=2.0, tries=1
                )
            )
    yield [f"{name}-describer" for name in names]
    with service.operator() as operator:
        for name in names:
            operator.delete_model(f"{name}-describer")


def settled(client: Client, kb: str) -> s.DescribingOut:
    """How describing stands once nothing waits for it."""
    results: list[s.DescribingOut] = []

    def done() -> bool:
        message = client.show_kb(kb).describing
        assert message is not None
        results.append(message)
        return not message.waiting

    until(done)
    return results[-1]


def test_a_model_describes_documents_and_the_index_goes_along(
    team: TeamSetup, kb: str, models: list[str]
) -> None:
    client = team.client
    before = client.add_document(kb, SCAN, "scan_0042.txt", wait=True).document
    assert before.described_by is None
    assert client.change_kb(kb, describer="honest-describer").describing is not None
    message = settled(client, kb)
    assert (message.model, message.described, message.failed, message.error) == (
        "honest-describer",
        1,
        0,
        None,
    )
    document = client.show_document(kb, "scan_0042.txt")
    assert (document.description, document.described_by) == (SENTENCE, "honest-describer")
    assert document.state == "indexed"
    assert document.revision.embedded == before.revision.embedded, "something was embedded again"
    hits = client.search(kb, "who closes the outer berth", explain=True).hits
    assert len(hits) == document.revision.passages == 1
    assert hits[0].similarity is not None
    assert hits[0].explanation is not None
    assert any(term.about > 0 for term in hits[0].explanation.terms)
    assert [passage.ordinal for passage in client.list_passages(kb, document.id)] == [0]


def test_what_is_added_later_is_described_too_and_a_new_revision_again(
    team: TeamSetup, models: list[str]
) -> None:
    client = team.client
    kb = client.create_kb("Scans", describer="whole-describer").slug
    client.add_document(kb, SCAN, "scan_1.txt", wait=True)
    assert settled(client, kb).described == 1
    client.add_document(kb, SCAN.replace(b"38", b"41"), "scan_1.txt", wait=True)
    assert settled(client, kb).described == 1
    assert "41 knots" in client.show_document(kb, "scan_1.txt").description


def test_an_edition_built_later_holds_the_description(
    team: TeamSetup, kb: str, models: list[str]
) -> None:
    client = team.client
    client.add_document(kb, SCAN, "scan_1.txt", wait=True)
    client.change_kb(kb, describer="honest-describer")
    settled(client, kb)
    client.build_edition(kb, s.Splitting(target_tokens=60, min_tokens=20))
    until(lambda: client.list_editions(kb)[1].state == "ready")
    hit = client.search(kb, "duty officer", edition=2, explain=True).hits[0]
    assert hit.explanation is not None
    assert any(term.about > 0 for term in hit.explanation.terms)
    assert client.show_document(kb, "scan_1.txt").described_by == "honest-describer"


@pytest.mark.parametrize(
    ("model", "why"), [("failing-describer", "status 500"), ("lying-describer", "wrote 480")]
)
def test_a_model_that_fails_or_lies_leaves_the_documents_own_words(
    team: TeamSetup, storm: str, models: list[str], model: str, why: str
) -> None:
    client = team.client
    own = client.show_document(storm, "storm-plan.md").description
    client.change_kb(storm, describer=model)
    message = settled(client, storm)
    assert (message.described, message.failed) == (0, 1)
    assert why in (message.error or "")
    document = client.show_document(storm, "storm-plan.md")
    assert (document.description, document.described_by) == (own, None)
    # Another model is asked at once.
    client.change_kb(storm, describer="honest-describer")
    assert settled(client, storm).described == 1


def test_what_it_used_counts_but_is_no_question(
    team: TeamSetup, storm: str, models: list[str]
) -> None:
    team.client.change_kb(storm, describer="honest-describer")
    settled(team.client, storm)
    used = team.client.usage(by="member")
    assert [row.name for row in used.rows] == ["describing documents"]
    assert used.total.questions == 0
    assert used.total.tokens_read > 50
    assert used.total.cost > 0


def test_a_model_that_a_team_may_not_use_is_refused(team: TeamSetup, kb: str) -> None:
    with pytest.raises(Invalid, match="no-such-model"):
        team.client.change_kb(kb, describer="no-such-model")
    assert team.client.show_kb(kb).describing is None


def test_taking_the_model_away_brings_back_the_documents_own_words(
    team: TeamSetup, kb: str, models: list[str]
) -> None:
    client = team.client
    before = client.add_document(kb, SCAN, "scan_0042.txt", wait=True).document
    client.change_kb(kb, describer="honest-describer")
    settled(client, kb)
    described = client.show_document(kb, "scan_0042.txt")
    assert (described.title, described.description) != (before.title, before.description)
    assert client.change_kb(kb, describer="built-in").describing is None
    until(lambda: client.show_document(kb, "scan_0042.txt").described_by is None)
    own = client.show_document(kb, "scan_0042.txt")
    assert (own.title, own.description, own.state) == (before.title, before.description, "indexed")
    assert own.revision.embedded == before.revision.embedded, "something was embedded again"
    hits = client.search(kb, "who closes the outer berth").hits
    assert [hit.title for hit in hits] == [before.title]
    # Switched on again, the model is asked again.
    client.change_kb(kb, describer="honest-describer")
    assert settled(client, kb).described == 1
    assert client.show_document(kb, "scan_0042.txt").described_by == "honest-describer"


def test_a_kill_while_a_description_is_written_loses_nothing(
    tmp_path: Path, model_server: str
) -> None:
    service = Service(tmp_path / "data").start()
    team = new_team(service)
    with service.operator() as operator:
        operator.create_model(s.ModelIn(name="honest", url=model_server, remote="honest"))
    kb = team.client.create_kb("Notes").slug
    team.client.add_document(kb, STORM, "storm.md", wait=True)
    service.stop()
    service.start(FONTANEL_FAULT="description_written")
    client = Client(service.url, team.key, team.slug, retry_seconds=0)
    with contextlib.suppress(Unreachable):  # it may be killed before it answers
        client.change_kb(kb, describer="honest")
    assert service.process is not None
    assert service.process.wait(timeout=60) == -9, "the fault point was never passed"
    service.start()
    client = Client(service.url, team.key, team.slug)
    assert settled(client, kb).described == 1
    result = client.show_document(kb, "storm.md")
    assert result.described_by == "honest"
    hits = client.search(kb, "quay crane gust", limit=100, per_document=100).hits
    assert len({hit.passage_id for hit in hits}) == len(hits) > 0
    with sqlite3.connect(service.data / "fontanel.db") as db:
        assert db.execute("SELECT count(*) FROM passages").fetchone()[0] == result.revision.passages
    service.stop()


def test_the_service_stops_while_a_model_is_silent(tmp_path: Path, model_server: str) -> None:
    service = Service(tmp_path / "data").start()
    team = new_team(service)
    with service.operator() as operator:
        operator.create_model(
            s.ModelIn(name="silent", url=model_server, remote="silent", seconds=600)
        )
    kb = team.client.create_kb("Notes", describer="silent").slug
    team.client.add_document(kb, STORM, "storm.md", wait=True)
    message = team.client.show_kb(kb).describing
    assert message is not None
    assert message.waiting == 1
    assert service.stop() == 0
    service.start()
    client = Client(service.url, team.key, team.slug)
    message = client.show_kb(kb).describing
    assert message is not None
    assert (message.described, message.waiting, message.failed) == (0, 1, 0)
    assert client.search(kb, "quay crane gust").hits
    service.stop()
