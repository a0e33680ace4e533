"""The main task of each page, by keyboard alone."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import pytest
from playwright.sync_api import Browser, Locator, Page, expect

from fontanel import schemas as s
from tests.conftest import STORM, Service, TeamSetup, new_team

QUESTION = "At what gust does the quay crane stop?"
#: More presses of Tab than any page has controls.
_MAX_TABS = 150


@dataclass
class Keys:
    """A page without a mouse."""

    page: Page

    def go_to(self, control: Locator) -> None:
        """Press Tab until a control has the focus, which must be visible."""
        expect(control).to_be_visible()
        for _ in range(_MAX_TABS):
            self.page.keyboard.press("Tab")
            if control.evaluate("element => element === document.activeElement"):
                break
        expect(control).to_be_focused()
        assert control.evaluate("element => element.matches(':focus-visible')")

    def write(self, control: Locator, text: str) -> None:
        """Replace the text of a field."""
        self.go_to(control)
        self.page.keyboard.press("Control+A")
        self.page.keyboard.type(text)

    def press(self, control: Locator) -> None:
        """Follow a link, or press a button."""
        self.go_to(control)
        self.page.keyboard.press("Enter")

    def enter(self) -> None:
        self.page.keyboard.press("Enter")


@pytest.fixture(scope="module")
def team(service: Service) -> TeamSetup:
    team = new_team(service)
    client = team.client
    kb = client.create_kb("Rules")
    client.add_document(kb.slug, STORM, "storm-plan.md", wait=True)
    client.create_desk("Dock desk", s.DeskSettings(kbs=[s.DeskKb(kb=kb.id)]))
    return team


@pytest.fixture
def keys(browser: Browser, service: Service, team: TeamSetup) -> Iterator[Keys]:
    """A signed-in owner; signing in is the first task."""
    context = browser.new_context(base_url=service.url, viewport={"width": 1280, "height": 800})
    keys = Keys(context.new_page())
    keys.page.goto("/sign-in")
    keys.write(keys.page.get_by_label("E-mail"), team.email)
    keys.write(keys.page.get_by_label("Password"), team.password)
    keys.enter()
    keys.page.wait_for_url("**/kbs")
    yield keys
    context.close()


def test_a_document_is_opened_and_searched(keys: Keys) -> None:
    page = keys.page
    keys.press(page.get_by_role("link", name="Rules", exact=True))
    keys.press(page.get_by_role("link", name="Storm plan", exact=True))
    keys.write(page.get_by_label("Find in this document"), "the")
    expect(page.get_by_role("status").first).to_contain_text("1 of")
    keys.enter()
    expect(page.get_by_role("status").first).to_contain_text("2 of")
    choice = page.get_by_role("combobox", name="In force")
    keys.go_to(choice)
    page.keyboard.type("withdrawn")
    keys.press(page.get_by_role("button", name="Decide"))
    expect(page.get_by_text("This document is not in force: withdrawn.")).to_be_visible()
    keys.go_to(choice)
    page.keyboard.type("as its")
    keys.press(page.get_by_role("button", name="Decide"))
    expect(page.get_by_text("This document is not in force")).to_have_count(0)


def test_a_knowledge_base_is_searched_asked_and_changed(keys: Keys, team: TeamSetup) -> None:
    page = keys.page
    page.goto(f"/t/{team.slug}/kbs/rules/search")
    keys.write(page.get_by_label("Search", exact=True), "when does the lock open")
    keys.enter()
    keys.press(page.get_by_role("article").first.get_by_role("link").first)
    expect(page.locator("mark").first).to_be_visible()
    page.goto(f"/t/{team.slug}/kbs/rules/ask")
    keys.write(page.get_by_label("Question"), QUESTION)
    keys.enter()
    expect(page.locator("[data-outcome=answered]")).to_be_visible()
    keys.press(page.get_by_role("complementary", name="Citations").get_by_role("link").first)
    expect(page.locator("mark").first).to_be_visible()
    page.goto(f"/t/{team.slug}/kbs/rules/settings")
    keys.write(page.get_by_label("Description", exact=True), "By keyboard")
    keys.press(page.get_by_role("button", name="Save"))
    expect(page.get_by_role("status").filter(has_text="Saved.")).to_be_visible()
    keys.press(page.get_by_role("button", name="Save"))
    expect(page.get_by_role("alert")).to_have_count(0)
    page.goto(f"/t/{team.slug}/kbs/rules/documents")
    page.goto(f"/t/{team.slug}/kbs/rules/settings")
    expect(page.get_by_label("Description", exact=True)).to_have_value("By keyboard")


def test_a_knowledge_base_is_created_and_a_file_chosen(keys: Keys, team: TeamSetup) -> None:
    page = keys.page
    keys.press(page.get_by_role("button", name="Create a knowledge base"))
    keys.write(page.get_by_label("Name"), "Tides")
    keys.press(page.get_by_role("button", name="Create", exact=True))
    expect(page.get_by_role("heading", name="Tides")).to_be_visible()
    with page.expect_file_chooser() as chosen:
        keys.press(page.get_by_role("button", name="Add files"))
    chosen.value.set_files(
        {"name": "tides.md", "mimeType": "text/markdown", "buffer": b"# Tides\n\nHigh at noon."}
    )
    expect(page.get_by_role("link", name="Tides", exact=True).last).to_be_visible()


def test_a_desk_is_built_published_and_asked(keys: Keys, team: TeamSetup) -> None:
    page = keys.page
    keys.press(page.get_by_role("link", name="Desks"))
    keys.press(page.get_by_role("link", name="Dock desk"))
    keys.write(page.get_by_label("Purpose"), "Answers about cranes.")
    keys.write(page.get_by_label("Question to try"), QUESTION)
    keys.enter()
    expect(page.get_by_label("Try the draft").get_by_text("38 knots")).to_be_visible()
    keys.press(page.get_by_role("button", name="Publish"))
    expect(page.get_by_text("Version 1 is published")).to_be_visible()
    page.goto(f"/chat/{team.client.list_desks()[0].id}")
    keys.write(page.get_by_label("Question", exact=True), QUESTION)
    keys.enter()
    expect(page.locator("[data-outcome=answered]")).to_be_visible()
    keys.press(page.locator("[data-note]").first)
    expect(page.locator("mark").first).to_contain_text("38 knots")


def test_a_member_is_invited_and_a_key_made(keys: Keys, team: TeamSetup) -> None:
    page = keys.page
    keys.press(page.get_by_role("link", name="Team", exact=True))
    keys.write(page.get_by_label("E-mail"), f"mate-of-{team.slug}@skerrow.example")
    keys.write(page.get_by_label("Name", exact=True), "A mate")
    keys.enter()
    expect(page.get_by_role("status").first).to_contain_text("It is not shown again.")
    keys.write(page.get_by_label("Purpose of the key"), "nightly upload")
    keys.enter()
    expect(page.get_by_role("status").last).to_contain_text("fk_")
