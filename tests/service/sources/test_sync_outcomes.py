"""Outcomes of runs with failures, collisions, moves and deletions, item by item."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Client
from fontanel.facts import DocumentState
from tests.conftest import Service, TeamSetup
from tests.servers import Answer, WebServer
from tests.service.sources.test_sources import connect, counts, names


@pytest.fixture(scope="module")
def roots(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("outcomes")


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory, roots: Path) -> Iterator[Service]:
    environment = {
        "FONTANEL_SOURCE_ROOTS": str(roots),
        "FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8",
        "FONTANEL_MAX_UPLOAD_MB": "1",
    }
    started = Service(tmp_path_factory.mktemp("outcomes") / "data", environment).start()
    yield started
    started.stop()


@pytest.fixture
def folder(roots: Path, team: TeamSetup) -> Path:
    found = roots / team.slug
    found.mkdir()
    return found


def items(client: Client, source: s.SourceOut, sync: s.SyncOut) -> dict[str, s.SyncItemOut]:
    return {item.id: item for item in client.list_sync_items("kb", source.id, sync.id)}


def light(number: int) -> str:
    return f"# Light {number}\n\nLight {number} shows every {number + 2} seconds.\n"


LIGHTS = ("Skua", "Gannet", "Fulmar", "Puffin", "Tern", "Eider", "Petrel")


def page(number: int) -> str:
    name = LIGHTS[number % len(LIGHTS)] + " rock" * (number // len(LIGHTS))
    return (
        f"<html><body><main><h1>Light {name}</h1><p>The light {name} shows every {number + 20}"
        " seconds.</p></main></body></html>"
    )


def test_a_name_that_somebody_else_has_gets_a_number(team: TeamSetup, folder: Path) -> None:
    client = team.client
    client.create_kb("Kb")
    client.add_document("kb", b"# Mine\n\nWritten by hand.\n", name="lights/one.md", wait=True)
    client.add_document(
        "kb", b"# Mine too\n\nWritten by hand.\n", name="lights/one (2).md", wait=True
    )
    (folder / "one.md").write_text(light(1))
    settings = {"path": str(folder), "watch": False}
    source = client.connect_source(
        "kb", s.SourceIn(name="Lights", kind="folder", settings=settings)
    )
    assert client.wait_for_sync("kb", source.id, "latest").added == 1
    assert names(client) == ["lights/one (2).md", "lights/one (3).md", "lights/one.md"]
    assert client.document_text("kb", "lights/one.md").text.startswith("Mine")
    # It keeps that name, and follows its file.
    (folder / "one.md").write_text(light(2))
    assert counts(client.sync_source("kb", source.id, wait=True)) == {"changed": 1}
    assert "Light 2" in client.document_text("kb", "lights/one (3).md").text


def test_what_is_too_large_is_said_and_taken_when_it_shrinks(team: TeamSetup, folder: Path) -> None:
    client = team.client
    (folder / "small.md").write_text(light(1))
    (folder / "large.md").write_text("# Large\n\n" + "x" * 1_100_000)
    source = connect(client, folder)
    first = client.show_sync("kb", source.id, "latest")
    assert (first.added, first.skipped + first.failed) == (1, 1)
    assert "larger than 1 MB" in str(items(client, source, first)["large.md"].reason)
    (folder / "large.md").write_text(light(2))
    assert counts(client.sync_source("kb", source.id, wait=True)) == {"added": 1, "unchanged": 1}
    # What grows too large leaves, rather than be answered from as it once was, and the run says
    # why.
    (folder / "small.md").write_text("# Small no more\n\n" + "y" * 1_100_000)
    grown = client.sync_source("kb", source.id, wait=True)
    assert counts(grown) == {"removed": 1, "skipped": 1, "unchanged": 1}
    assert grown.skip_reasons == {"larger than 1 MB": 1}
    assert names(client) == ["notices/large.md"]


def test_two_of_the_same_content_move_each_once(team: TeamSetup, folder: Path) -> None:
    client = team.client
    (folder / "old").mkdir()
    for name in ("a", "b"):
        (folder / "old" / f"{name}.md").write_text(light(7))
    (folder / "stays.md").write_text(light(8))
    source = connect(client, folder)
    before = {client.show_document("kb", f"notices/old/{name}.md").id for name in ("a", "b")}
    (folder / "old").rename(folder / "new")
    (folder / "new" / "c.md").write_text(light(9))
    sync = client.sync_source("kb", source.id, wait=True)
    assert counts(sync) == {"added": 1, "moved": 2, "unchanged": 1}
    assert {
        client.show_document("kb", f"notices/new/{name}.md").id for name in ("a", "b")
    } == before
    assert {items(client, source, sync)[f"new/{name}.md"].reason for name in ("a", "b")} == {
        "from old/a.md",
        "from old/b.md",
    }
    assert names(client, DocumentState.REMOVED) == []


def test_what_a_person_deleted_and_its_file_that_moved(team: TeamSetup, folder: Path) -> None:
    client = team.client
    for number in range(3):
        (folder / f"{number}.md").write_text(light(number))
    source = connect(client, folder)
    client.delete_document("kb", "notices/1.md")
    (folder / "1.md").write_text(light(11))
    sync = client.sync_source("kb", source.id, wait=True)
    assert counts(sync) == {"unchanged": 2, "skipped": 1}
    assert sync.skip_reasons == {"deleted here by a person": 1}
    assert names(client) == ["notices/0.md", "notices/2.md"]


def test_a_page_that_fails_keeps_its_document_and_comes_back(
    team: TeamSetup, web: WebServer
) -> None:
    client = team.client
    client.create_kb("Kb")
    links = "".join(f'<a href="/{number}">Light {number}</a> ' for number in range(5))
    web.page(
        "/",
        "<html><body><main><h1>Lights</h1><p>All the lights of the"
        f" harbour.</p>{links}</main></body></html>",
    )
    for number in range(5):
        web.page(f"/{number}", page(number))
    settings = {"start": [f"{web.url}/"]}
    source = client.connect_source("kb", s.SourceIn(name="Site", kind="site", settings=settings))
    assert client.wait_for_sync("kb", source.id, "latest").added == 6
    web.pages["/3"] = Answer(b"broken", 500)
    failed = client.sync_source("kb", source.id, wait=True)
    assert (failed.failed, failed.removed) == (1, 0)
    (kept,) = [
        document for document in client.list_documents("kb") if document.title == "Light Puffin"
    ]
    assert kept.state == "indexed"
    assert "23 seconds" in client.ask("kb", "How often does the light Puffin show?").text
    reasons = [
        item.reason
        for item in client.list_sync_items("kb", source.id, failed.id)
        if item.outcome == "failed"
    ]
    assert len(reasons) == 1
    assert "500" in str(reasons[0])
    # It is whole again, with something new to say.
    web.page("/3", page(3).replace("23", "50"))
    mended = client.sync_source("kb", source.id, wait=True)
    assert (mended.changed, mended.failed) == (1, 0)
    assert client.show_document("kb", kept.id).id == kept.id
    assert "50 seconds" in client.ask("kb", "How often does the light Puffin show?").text


def test_a_run_that_can_fetch_little_is_held_and_harms_nothing(
    team: TeamSetup, web: WebServer
) -> None:
    client = team.client
    client.create_kb("Kb")
    pages = range(14)
    links = "".join(f'<a href="/{number}">Light {number}</a> ' for number in pages)
    web.page(
        "/", f"<html><body><main><h1>Lights</h1><p>All the lights.</p>{links}</main></body></html>"
    )
    for number in pages:
        web.page(f"/{number}", page(number))
    source = client.connect_source(
        "kb", s.SourceIn(name="Site", kind="site", settings={"start": [f"{web.url}/"]})
    )
    assert client.wait_for_sync("kb", source.id, "latest").added == 15
    for number in pages:
        web.pages[f"/{number}"] = Answer(b"broken", 500)
    held = client.sync_source("kb", source.id, wait=True)
    assert held.state == "held"
    assert "could not be fetched" in str(held.held_reason)
    assert len(names(client)) == 15
    assert all(document.state == "indexed" for document in client.list_documents("kb"))
    assert "21 seconds" in client.ask("kb", "How often does the light Gannet show?").text


def test_tags_follow_their_rules_and_the_names_of_files(team: TeamSetup, folder: Path) -> None:
    client = team.client
    (folder / "outer").mkdir()
    (folder / "outer" / "one.md").write_text(light(1))
    (folder / "two.md").write_text(light(2))
    rules = [
        s.TagRule(pattern="outer/**", tags={"area": "outer"}),
        s.TagRule(pattern="*.md", tags={"kind": "light"}),
    ]
    source = connect(client, folder, tag_rules=rules)
    assert client.show_document("kb", "notices/outer/one.md").tags == {
        "area": "outer",
        "kind": "light",
    }
    assert client.show_document("kb", "notices/two.md").tags == {"kind": "light"}
    hits = client.search("kb", "light shows", tags={"area": "outer"}).hits
    assert {hit.document_name for hit in hits} == {"notices/outer/one.md"}
    assert client.show_source("kb", source.id).documents == 2
