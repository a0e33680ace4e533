"""The console in headless Chromium, against the real service."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Browser, Page, Route, expect

from fontanel import schemas as s
from tests.conftest import DOCUMENTS, Service, TeamSetup, until
from tests.end_to_end.conftest import ask, sign_in


def test_from_sign_in_to_an_opened_citation(page: Page, team: TeamSetup, tmp_path: Path) -> None:
    sign_in(page, team)
    expect(page.get_by_text(f"{team.name} has no knowledge base yet.")).to_be_visible()

    page.get_by_role("button", name="Create a knowledge base").click()
    page.get_by_label("Name").fill("Harbour rules")
    page.get_by_label("Description").fill("Storms, cranes, the lock")
    page.get_by_role("button", name="Create", exact=True).click()
    expect(page.get_by_role("heading", name="Harbour rules")).to_be_visible()
    expect(page.get_by_text("No documents yet.")).to_be_visible()

    page.get_by_role("link", name="Ask", exact=True).click()
    ask(page, "At what gust does the quay crane stop?", 1)
    expect(page.get_by_text("There is nothing to answer from yet")).to_be_visible()

    page.get_by_role("link", name="Documents", exact=True).click()
    marine = DOCUMENTS / "marine-operations"
    page.get_by_label("Files to add").set_input_files(
        [marine / "storm-plan.pdf", marine / "crane-safety.docx", marine / "tide-and-lock-notes.md"]
    )
    expect(page.locator("[data-state=indexed]")).to_have_count(3, timeout=60_000)
    row = page.get_by_role("row", name=re.compile("Storm plan"))
    expect(row).to_contain_text("4.5 kB")

    page.get_by_role("link", name="Search", exact=True).click()
    page.get_by_label("Search", exact=True).fill("when does the lock open")
    page.get_by_role("button", name="Search").click()
    first = page.get_by_role("article").first
    expect(first).to_contain_text("Tide and lock notes")
    expect(first.locator("mark").first).to_be_visible()
    expect(first).to_contain_text("cosine")

    page.get_by_role("link", name="Ask", exact=True).click()
    ask(page, "What is the mean wind limit for departure from the outer berth?", 1)
    expect(page.locator("[data-outcome]")).to_contain_text("28 knots from the north-east")
    note = page.get_by_role("complementary", name="Citations").get_by_role("link").first
    expect(note).to_contain_text("Storm plan")
    page.locator("sup button").first.focus()
    expect(note).to_have_attribute("data-lit", "true")

    ask(page, "And from other directions?", 2)
    expect(page.get_by_text("(following on from: What is the mean wind limit")).to_be_visible()
    expect(page.locator("[data-outcome]").last).to_contain_text(
        "From other directions the limit is 32 knots"
    )

    note.click()
    expect(page.get_by_role("heading", name="Storm plan").first).to_be_visible()
    marked = page.locator("article mark")
    expect(marked.first).to_be_visible()
    expect(marked.first).to_be_in_viewport()
    assert "28 knots from the north-east" in " ".join(marked.all_inner_texts())
    original = page.get_by_role("link", name="Open the original")
    assert (original.get_attribute("href") or "").endswith("#page=1")

    page.get_by_role("button", name="Sign out").click()
    page.wait_for_url("**/sign-in")
    page.goto(f"/t/{team.slug}/kbs")
    page.wait_for_url("**/sign-in?next=**")


def test_conversations_are_kept_and_can_be_taken_up_again(
    page: Page, team: TeamSetup, storm: str
) -> None:
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{storm}/ask")
    ask(page, "At what gust does the quay crane stop?", 1)
    page.get_by_role("button", name="New conversation").click()
    page.get_by_role("button", name="Rename").click()
    page.get_by_label("New title").fill("My crane")
    page.keyboard.press("Enter")
    page.get_by_label("Search your conversations").fill("quay crane")
    page.get_by_role("button", name="My crane", exact=True).click()
    expect(page.locator("[data-outcome=answered]")).to_contain_text("38 knots")
    page.reload()
    expect(page.locator("[data-outcome=answered]")).to_contain_text("38 knots")


def test_what_is_not_answered_shows_what_is_near(page: Page, team: TeamSetup, storm: str) -> None:
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{storm}/ask")
    ask(page, "Which wine goes with smoked herring?", 1)
    expect(page.get_by_text("The documents do not answer this question.")).to_be_visible()
    near = page.get_by_role("complementary", name="Nearest passages").get_by_role("link")
    near.first.click()
    expect(page.locator("article mark").first).to_be_visible()


def test_settings_rename_and_delete(page: Page, team: TeamSetup, storm: str) -> None:
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{storm}/settings")
    page.get_by_label("Name").fill("Port rules")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("heading", name="Port rules")).to_be_visible()
    page.on("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="Delete this knowledge base").click()
    page.wait_for_url("**/kbs")
    assert team.client.list_kbs() == []


def test_a_model_is_chosen_to_describe_documents(
    page: Page, team: TeamSetup, storm: str, service: Service, model_server: str
) -> None:
    with service.operator() as operator:
        operator.create_model(s.ModelIn(name="a describer", url=model_server, remote="honest"))
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{storm}/settings")
    page.get_by_label("Document descriptions").select_option("a describer")
    page.get_by_role("button", name="Save").click()
    page.wait_for_load_state()
    until(lambda: team.client.show_document(storm, "storm-plan.md").described_by)
    page.reload()
    expect(page.get_by_text("1 by a describer")).to_be_visible()
    page.get_by_role("link", name="Documents", exact=True).click()
    page.get_by_role("link", name="Storm plan").click()
    expect(page.get_by_text("(described by a describer)")).to_be_visible()
    with service.operator() as operator:
        operator.delete_model("a describer")


def test_on_a_phone_notes_rise_and_nothing_scrolls_sideways(
    browser: Browser, team: TeamSetup, storm: str, service: Service
) -> None:
    context = browser.new_context(
        base_url=service.url, viewport={"width": 390, "height": 844}, color_scheme="dark"
    )
    page = context.new_page()
    sign_in(page, team)
    assert page.evaluate("document.documentElement.dataset.theme") == "night"
    for path in (
        "kbs",
        f"kbs/{storm}/documents",
        f"kbs/{storm}/search",
        f"kbs/{storm}/ask",
        "team",
    ):
        page.goto(f"/t/{team.slug}/{path}")
        page.wait_for_load_state("networkidle" if path == "kbs" else "load")
        expect(page.get_by_role("main")).to_be_visible()
        assert page.evaluate("document.documentElement.scrollWidth <= innerWidth"), path
    page.goto(f"/t/{team.slug}/kbs/{storm}/ask")
    ask(page, "At what gust does the quay crane stop?", 1)
    page.locator("sup button").first.click()
    sheet = page.get_by_role("dialog")
    expect(sheet).to_contain_text("Storm plan")
    sheet.get_by_role("link", name="Open the document").click()
    expect(page.locator("article mark").first).to_be_visible()
    context.close()


def test_the_theme_chosen_stays(page: Page, team: TeamSetup) -> None:
    sign_in(page, team)
    page.get_by_role("button", name="Dark").click()
    page.reload()
    assert page.evaluate("document.documentElement.dataset.theme") == "night"


def test_a_setting_changed_while_a_search_is_under_way_counts(
    page: Page, team: TeamSetup, storm: str
) -> None:
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{storm}/search")
    page.get_by_label("Search", exact=True).fill("wind limit outer berth")
    stored: list[Route] = []
    page.route("**/search", lambda route: stored.append(route), times=1)
    with page.expect_request("**/search"):
        page.get_by_role("button", name="Search").click()
    page.get_by_label("Explain the scores").check()
    expect(page.get_by_role("columnheader", name="weight").first).to_be_visible()
    stored[0].continue_()
    expect(page.get_by_role("columnheader", name="weight").first).to_be_visible()
