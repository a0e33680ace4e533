"""Sources, runs, freshness, and documents written here, in headless Chromium."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Page, Route, expect

from fontanel import schemas as s
from tests.conftest import Service, TeamSetup, new_team
from tests.end_to_end.conftest import sign_in


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("console")
    started = Service(folder / "data", {"FONTANEL_SOURCE_ROOTS": str(folder)}).start()
    yield started
    started.stop()


@pytest.fixture
def team(service: Service) -> TeamSetup:
    result = new_team(service)
    result.client.create_kb("Kb")
    return result


@pytest.fixture
def folder(service: Service, team: TeamSetup) -> Path:
    result = service.data.parent / team.slug
    result.mkdir()
    for number in range(12):
        (result / f"{number:02}.md").write_text(
            f"# Light {number}\n\nLight {number} shows every {number + 2} seconds.\n"
        )
    (result / "film.mp4").write_bytes(b"x")
    return result


def test_a_folder_is_looked_at_connected_held_and_confirmed(
    page: Page, team: TeamSetup, folder: Path
) -> None:
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/kb/sources")
    page.get_by_role("button", name="Connect a source").click()
    page.get_by_role("button", name="Files in a folder").click()
    page.get_by_label("Name", exact=True).fill("Lights")
    page.get_by_label("Folder", exact=True).fill("/etc")
    page.get_by_role("button", name="Preview").click()
    expect(page.get_by_text("is not below a folder that the operator allows")).to_be_visible()
    page.get_by_label("Folder", exact=True).fill(str(folder))
    page.get_by_role("button", name="Preview").click()
    expect(page.get_by_role("heading", name="12 would be added")).to_be_visible()
    expect(page.get_by_text("1 a kind of file without text")).to_be_visible()
    page.get_by_text("More settings").click()
    page.get_by_label("Watch for changes").uncheck()
    page.get_by_role("button", name="Connect", exact=True).click()

    page.get_by_role("link", name="Lights", exact=True).click()
    expect(page.get_by_text("12 added, 1 skipped")).to_be_visible()
    for number in range(11):
        (folder / f"{number:02}.md").unlink()
    page.get_by_role("button", name="Run now").click()
    expect(page.get_by_text("11 of 12 documents would be removed.").first).to_be_visible()
    page.locator("tbody a").first.click()
    expect(page.get_by_role("alert")).to_contain_text("11 of 12 documents would be removed.")
    page.get_by_label("Outcome").select_option("missing")
    expect(page.locator("tbody tr")).to_have_count(11)
    page.get_by_role("button", name="Remove them").click()
    expect(page.locator("[data-run=done]")).to_be_visible()
    page.get_by_role("link", name="Documents", exact=True).click()
    expect(page.locator("tbody tr")).to_have_count(1)
    page.get_by_label("State").select_option("removed")
    expect(page.locator("tbody tr")).to_have_count(11)

    page.get_by_role("link", name="Freshness").click()
    expect(
        page.get_by_text(
            "Lights: a run is held. 11 of 12 documents would be removed. Nothing was removed."
        )
    ).to_be_visible()
    expect(page.locator("[data-freshness]")).to_have_count(1)


def test_a_source_is_paused_changed_and_disconnected(
    page: Page, team: TeamSetup, folder: Path
) -> None:
    client = team.client
    source = client.connect_source(
        "kb", s.SourceIn(name="Lights", kind="folder", settings={"path": str(folder)})
    )
    client.wait_for_sync("kb", source.id, "latest")
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/kb/sources/{source.id}")
    page.get_by_role("button", name="Pause").click()
    expect(page.locator("[data-freshness=paused]")).to_be_visible()
    page.get_by_role("button", name="Resume").click()
    expect(page.get_by_role("button", name="Pause")).to_be_visible()
    page.get_by_role("button", name="Settings", exact=True).click()
    page.get_by_label("Pattern", exact=True).fill("0*.md")
    page.get_by_label("Tags", exact=True).first.fill("area=outer")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("button", name="Save", exact=True)).to_have_count(0)
    page.get_by_role("link", name="Documents", exact=True).click()
    expect(page.get_by_text("area: outer").first).to_be_visible()
    page.goto(f"/t/{team.slug}/kbs/kb/sources/{source.id}")
    page.on("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="Disconnect").click()
    expect(page.get_by_text("No sources yet.")).to_be_visible()
    assert list(client.list_documents("kb")) == []


def test_a_page_that_polls_waits_for_each_answer(page: Page, team: TeamSetup, folder: Path) -> None:
    source = team.client.connect_source(
        "kb", s.SourceIn(name="Lights", kind="folder", settings={"path": str(folder)})
    )
    team.client.wait_for_sync("kb", source.id, "latest")
    page.clock.install()
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/kb/sources/{source.id}")
    expect(page.get_by_text("12 added")).to_be_visible()
    stored: list[Route] = []
    page.route(f"**/sources/{source.id}", lambda route: stored.append(route))
    with page.expect_request(f"**/api/**/sources/{source.id}"):
        page.clock.run_for(20_000)
    page.clock.run_for(20_000)
    assert len(stored) == 1, "an answer that is slow must not be dropped for the next"
    with page.expect_response(f"**/api/**/sources/{source.id}"):
        stored[0].continue_()
    with page.expect_request(f"**/api/**/sources/{source.id}"):
        page.clock.run_for(5_000)


def test_a_document_is_written_edited_compared_and_brought_back(
    page: Page, team: TeamSetup
) -> None:
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/kb/documents")
    page.get_by_role("link", name="Write a document").click()
    page.get_by_label("Name", exact=True).fill("notes/winter")
    page.get_by_label("Text", exact=True).fill(
        "# Winter moorings\n\nBoats leave pontoon A by 1 November.\n"
    )
    expect(
        page.get_by_label("Preview").get_by_role("heading", name="Winter moorings")
    ).to_be_visible()
    page.get_by_role("button", name="Add", exact=True).click()
    # A revision that is replaced before it is read has nothing to be compared with.
    expect(page.get_by_role("link", name="edit", exact=True)).to_be_visible()
    team.client.wait_for_document("kb", "notes/winter.md")
    page.get_by_role("link", name="edit", exact=True).click()
    page.get_by_label("Text", exact=True).fill(
        "# Winter moorings\n\nBoats leave pontoon A by 15 October.\n"
    )
    page.get_by_role("button", name="Save as a new revision").click()
    page.get_by_role("link", name="what changed").click()
    expect(page.locator("[data-change=changed]")).to_contain_text(
        "Boats leave pontoon A by 15 October."
    )
    page.get_by_role("button", name="Restore revision 1").click()
    expect(page.get_by_text("1 November")).to_be_visible()


def test_a_small_table_and_folders_and_many_at_once(page: Page, team: TeamSetup) -> None:
    client = team.client
    for name in ("plans/2026/ice.md", "plans/2026/fog.md", "top.md"):
        client.add_document("kb", f"# {name}\n\nText of {name}.\n".encode(), name, wait=True)
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/kb/write")
    page.get_by_label("Name", exact=True).fill("berths")
    page.get_by_label("Kind").select_option("table")
    page.get_by_label("Heading of column 1").fill("Berth")
    page.get_by_label("Heading of column 2").fill("Depth, in metres")
    page.get_by_label("Row 1, column 1").fill("Berth 4")
    page.get_by_label("Row 1, column 2").fill("6.8")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_role("heading", name="berths").first).to_be_visible()
    assert client.written_text("kb", "berths.csv").text == 'Berth,"Depth, in metres"\nBerth 4,6.8\n'
    page.goto(f"/t/{team.slug}/kbs/kb/documents")
    page.get_by_label("Open plans").click()
    page.get_by_role("button", name="2026", exact=True).click()
    expect(page.locator("tbody tr")).to_have_count(2)
    page.get_by_label("Select all shown").check()
    page.get_by_label("Tags to add").fill("year=2026")
    page.get_by_role("button", name="Tag", exact=True).click()
    expect(page.get_by_text("year: 2026")).to_have_count(2)
    assert client.show_document("kb", "plans/2026/ice.md").tags == {"year": "2026"}
