"""Another embedder at the next start: a replacement is built and activated."""

from __future__ import annotations

import json
import shutil
import sqlite3
from contextlib import suppress
from pathlib import Path

import pytest

from fontanel.client import Client
from fontanel.schemas import Splitting
from tests.conftest import EMBEDDER, STORM, Service, ServiceEnded, TeamSetup, new_team, until

NOTE = b"# Lights\n\nThe leading lights burn from dusk until dawn.\n"


@pytest.fixture
def other(tmp_path: Path) -> Path:
    """An embedder of another name."""
    result = tmp_path / "other-embedder"
    shutil.copytree(EMBEDDER, result)
    about = json.loads((result / "embedder.json").read_text())
    (result / "embedder.json").write_text(json.dumps({**about, "name": "another-embedder"}))
    return result


def started(tmp_path: Path) -> tuple[Service, TeamSetup, str]:
    service = Service(tmp_path / "data").start()
    team = new_team(service)
    kb = team.client.create_kb("Rules").slug
    team.client.add_document(kb, STORM, "storm-plan.md", wait=True)
    return service, team, kb


def again(service: Service, team: TeamSetup, **environment: str) -> Client:
    service.stop()
    service.start(**environment)
    return Client(service.url, team.key, team.slug)


def taken_over(client: Client, kb: str, number: int) -> bool:
    editions = client.list_editions(kb)
    return [edition.number for edition in editions] == [number] and editions[0].active


def test_a_successor_takes_over_with_what_came_meanwhile(tmp_path: Path, other: Path) -> None:
    service, team, kb = started(tmp_path)
    with sqlite3.connect(service.data / "vectors") as db:
        stored = db.execute("SELECT count(*) FROM team_vectors").fetchone()[0]
    client = again(service, team, FONTANEL_EMBEDDER=str(other))
    client.add_document(kb, NOTE, "lights.md", wait=True)
    until(lambda: taken_over(client, kb, 2))
    edition = client.list_editions(kb)[0]
    assert (edition.embedder, edition.outdated, edition.replaces_active) == (
        "another-embedder",
        False,
        False,
    )
    assert client.show_kb(kb).embedder == "another-embedder"
    for question, document in (
        ("quay crane gust", "storm-plan.md"),
        ("when do the lights burn", "lights.md"),
    ):
        result = client.search(kb, question)
        assert not result.keyword_only
        assert result.hits[0].document_name == document
        assert result.hits[0].similarity is not None
    assert [document.state for document in client.list_documents(kb)] == ["indexed", "indexed"]
    # Back to the first embedder: what it embedded is still in the cache.
    client = again(service, team)
    until(lambda: taken_over(client, kb, 3))
    assert client.search(kb, "quay crane gust").hits[0].similarity is not None
    with sqlite3.connect(service.data / "vectors") as db:
        assert db.execute("SELECT count(*) FROM team_vectors").fetchone()[0] >= stored
    service.stop()


def test_a_kill_while_the_successor_is_built_makes_no_second_one(
    tmp_path: Path, other: Path
) -> None:
    service, team, kb = started(tmp_path)
    service.stop()
    with suppress(ServiceEnded):  # it may be killed before it is asked whether it is ready
        service.start(FONTANEL_EMBEDDER=str(other), FONTANEL_FAULT="words_committed")
    assert service.process is not None
    assert service.process.wait(timeout=60) == -9, "the fault point was never passed"
    service.start(FONTANEL_EMBEDDER=str(other))
    client = Client(service.url, team.key, team.slug)
    until(lambda: taken_over(client, kb, 2))
    document = client.show_document(kb, "storm-plan.md")
    with sqlite3.connect(service.data / "fontanel.db") as db:
        assert (
            db.execute("SELECT count(*) FROM passages").fetchone()[0] == document.revision.passages
        )
    service.stop()


def test_an_edition_of_terms_told_otherwise_is_renewed_too(tmp_path: Path) -> None:
    service, team, kb = started(tmp_path)
    service.stop()
    with sqlite3.connect(service.data / "fontanel.db") as db:
        settings = json.loads(db.execute("SELECT settings FROM editions").fetchone()[0])
        db.execute("UPDATE editions SET settings = ?", (json.dumps({**settings, "analyser": 0}),))
    service.start()
    client = Client(service.url, team.key, team.slug)
    until(lambda: taken_over(client, kb, 2))
    hit = client.search(kb, "quay crane gust").hits[0]
    assert hit.similarity is not None
    assert client.show_document(kb, "storm-plan.md").revision.embedded > 0
    service.stop()


def test_an_edition_beside_is_left_as_it_is_and_searched_by_words(
    tmp_path: Path, other: Path
) -> None:
    service, team, kb = started(tmp_path)
    team.client.build_edition(kb, Splitting(target_tokens=60, min_tokens=20))
    until(lambda: team.client.list_editions(kb)[1].state == "ready")
    client = again(service, team, FONTANEL_EMBEDDER=str(other))
    until(lambda: client.list_editions(kb)[-1].active)
    beside = client.list_editions(kb)[0]
    assert (beside.number, beside.outdated) == (2, True)
    client.add_document(kb, NOTE, "lights.md", wait=True)
    result = client.search(kb, "leading lights", edition=2)
    assert result.keyword_only
    until(lambda: client.search(kb, "leading lights", edition=2).hits)
    service.stop()
