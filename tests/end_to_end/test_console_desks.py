"""Desks in headless Chromium.

Build, publish, ask as a guest, feedback, usage, models.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect

from fontanel import schemas as s
from tests.conftest import STORM, Service, TeamSetup, new_team
from tests.end_to_end.conftest import sign_in

QUESTION = "At what gust does the quay crane stop?"


@pytest.fixture(scope="module")
def team(service: Service, model_server: str) -> Iterator[TeamSetup]:
    result = new_team(service)
    result.client.create_kb("Rules")
    result.client.add_document(
        "rules", STORM, "storm-plan.md", {"page": "https://rules.skerrow.example/storm"}, wait=True
    )
    with service.operator() as operator:
        for name in ("honest", "lying", "slow"):
            operator.create_model(
                s.ModelIn(
                    name=f"{name}-writer",
                    url=model_server,
                    remote=name,
                    price_read=1.0,
                    teams=[result.slug],
                )
            )
    yield result
    with service.operator() as operator:
        for name in ("honest", "lying", "slow"):
            operator.delete_model(f"{name}-writer")


@pytest.fixture(scope="module")
def crane(team: TeamSetup) -> s.DeskOut:
    """A published desk."""
    settings = s.DeskSettings(
        kbs=[s.DeskKb(kb="rules", use_for="cranes and berths")],
        greeting="What about the cranes?",
        first_questions=[QUESTION],
        model="honest-writer",
        audience="link",
    )
    desk = team.client.create_desk("Crane desk", settings)
    team.client.publish_desk(desk.id)
    return desk


def test_a_desk_is_built_tried_compared_and_published(page: Page, team: TeamSetup) -> None:
    sign_in(page, team)
    page.get_by_role("link", name="Desks").click()
    page.get_by_label("Name of the new desk").fill("Dock desk")
    page.get_by_role("button", name="Create desk").click()
    page.get_by_label("Purpose").fill("Answers about cranes.")
    page.get_by_label("Greeting").fill("What about the cranes?")
    page.get_by_label("First questions").fill(f"{QUESTION}\nHow long is Berth 4?")
    page.get_by_label("What Rules is used for").fill("cranes and berths")
    page.get_by_role("radio", name="moss").click()
    # The draft is tried before it is saved.
    page.get_by_label("Question to try").fill(QUESTION)
    page.get_by_role("button", name="Try", exact=True).click()
    tried = page.get_by_label("Try the draft")
    expect(tried.get_by_text("38 knots")).to_be_visible()
    expect(tried.get_by_label("Passages used").get_by_text("Storm plan").first).to_be_visible()
    page.get_by_label("What changed").fill("first")
    page.get_by_role("button", name="Publish").click()
    expect(page.get_by_text("Version 1 is published")).to_be_visible()

    page.get_by_label("Model").select_option("honest-writer")
    page.get_by_label("Instructions").fill("Be brief.")
    page.get_by_label("Audience").select_option("link")
    page.get_by_label("next to the published version").check()
    page.get_by_role("button", name="Try", exact=True).click()
    expect(tried.get_by_role("heading", name="Version 1")).to_be_visible()
    expect(tried.get_by_text("by honest-writer")).to_be_visible()
    expect(tried.get_by_text("by built-in")).to_be_visible()
    page.get_by_label("What changed").fill("a model writes")
    page.get_by_role("button", name="Publish").click()
    expect(page.get_by_text("Version 2 is published")).to_be_visible()
    page.get_by_role("link", name="Versions").click()
    page.get_by_label("Before").select_option("1")
    differences = page.get_by_label("Differences")
    expect(differences.get_by_text("+ Be brief.")).to_be_visible()
    expect(differences.get_by_text('+ "honest-writer"')).to_be_visible()
    page.get_by_role("button", name="Publish this version").click()
    expect(page.get_by_text("Version 1 is published; the draft differs from it")).to_be_visible()
    page.get_by_role("button", name="Publish this version").click()
    expect(page.get_by_text("Version 2 is published", exact=True)).to_be_visible()


def test_a_guest_asks_by_the_link_and_the_editor_sees_the_record(
    page: Page, browser: Browser, team: TeamSetup, crane: s.DeskOut
) -> None:
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/desks/{crane.slug}/share")
    page.get_by_label("Name of the link").fill("Crew room")
    page.get_by_role("button", name="Create link").click()
    address = page.get_by_role("status").locator("code").inner_text()
    guests = browser.new_context(base_url=team.service.url, viewport={"width": 1280, "height": 800})
    guest = guests.new_page()
    guest.goto(re.sub(r"^https?://[^/]+", "", address))
    expect(guest.get_by_text("What about the cranes?")).to_be_visible()
    guest.get_by_role("button", name=QUESTION).click()
    answered = guest.locator("[data-outcome=answered]")
    expect(answered.get_by_text("38 knots")).to_be_visible()
    guest.get_by_label("Question", exact=True).fill("And when is it pinned?")
    guest.keyboard.press("Enter")
    expect(guest.get_by_text("Understood as:")).to_be_visible()
    expect(answered).to_have_count(2)
    # A citation opens in its place, the words marked.
    guest.locator("[data-note]").first.click()
    expect(guest.locator("dialog mark")).to_contain_text("38 knots")
    guest.get_by_role("button", name="Yes", exact=True).click()
    expect(guest.locator("dialog").get_by_text("Thank you.")).to_be_visible()
    guest.get_by_role("button", name="Close").click()
    guest.get_by_role("button", name="Not helpful").first.click()
    guest.get_by_label("Why").select_option("outdated")
    guest.get_by_label("Comment").fill("The crane is new.")
    guest.get_by_role("button", name="Send").click()
    expect(guest.get_by_text("Thank you.")).to_be_visible()
    # A reload goes on where it was; the conversation is found, renamed and left again.
    guest.reload()
    expect(answered).to_have_count(2)
    guest.get_by_role("button", name="Conversations").click()
    guest.get_by_label("Search your conversations").fill("pinned")
    guest.get_by_role("button", name="Rename").click()
    guest.get_by_label("New title").fill("My crane")
    guest.keyboard.press("Enter")
    expect(guest.get_by_role("button", name="My crane", exact=True)).to_be_visible()
    guest.get_by_role("button", name="New", exact=True).click()
    expect(guest.get_by_text("What about the cranes?")).to_be_visible()
    guests.close()

    page.get_by_role("link", name="Answers").click()
    expect(page.get_by_text("“The crane is new.”")).to_be_visible()
    expect(page.get_by_text("helpful (citation 1)")).to_be_visible()
    page.get_by_role("link", name=QUESTION).first.click()
    steps = page.get_by_label("Steps")
    for step in ("routing", "retrieval", "evidence check", "packing", "model", "verification"):
        expect(steps.get_by_text(step, exact=True)).to_be_visible()
    page.get_by_text("Sent to the model (user)").click()
    expect(page.get_by_text("<sources>")).to_be_visible()
    team.client.add_document(
        "rules", STORM.replace(b"38 knots", b"36 knots"), "storm-plan.md", wait=True
    )
    page.reload()
    expect(page.get_by_text("cites text that has changed since")).to_be_visible()
    page.get_by_role("button", name="Ask again now").click()
    expect(page.get_by_label("Asked again").get_by_text("36 knots").first).to_be_visible()
    team.client.add_document("rules", STORM, "storm-plan.md", wait=True)


def test_doubtful_statements_are_marked_and_an_answer_can_be_stopped(
    page: Page, team: TeamSetup
) -> None:
    for name, model in (("Doubtful", "lying-writer"), ("Slow", "slow-writer")):
        desk = team.client.create_desk(
            name,
            s.DeskSettings(
                kbs=[s.DeskKb(kb="rules")], model=model, link_tags=["page"], evidence_needed=0.0
            ),
        )
        team.client.publish_desk(desk.id)
    ids = {desk.name: desk.id for desk in team.client.list_desks()}
    sign_in(page, team)
    page.goto(f"/chat/{ids['Doubtful']}")
    page.get_by_label("Question", exact=True).fill(QUESTION)
    page.get_by_role("button", name="Ask", exact=True).click()
    expect(page.get_by_text(re.compile("not supported by the cited")).first).to_be_visible()
    expect(page.locator("[data-doubtful], details").first).to_be_visible()
    expect(page.get_by_role("link", name="Storm plan", exact=True).first).to_have_attribute(
        "href", "https://rules.skerrow.example/storm"
    )
    page.goto(f"/chat/{ids['Slow']}")
    page.get_by_label("Question", exact=True).fill(QUESTION)
    page.keyboard.press("Enter")
    expect(page.locator("[data-outcome=coming]").get_by_text("crane")).to_be_visible()
    # Another tab sees that it is on its way, and that it ends.
    expect(page).to_have_url(re.compile("conversation="))
    other = page.context.new_page()
    other.goto(page.url)
    expect(other.locator("[data-outcome=coming]")).to_be_visible()
    page.get_by_role("button", name="Stop").click()
    expect(other.get_by_text("Stopped before it was finished.")).to_be_visible()
    expect(other.get_by_role("button", name="Ask again")).to_be_visible()
    other.close()
    expect(page.get_by_text("Stopped before it was finished.")).to_be_visible()
    expect(page.get_by_role("button", name="Ask again")).to_be_visible()
    page.reload()
    expect(page.get_by_text("Stopped before it was finished.")).to_be_visible()


def test_a_phone_shows_citations_as_sheets(
    browser: Browser, team: TeamSetup, crane: s.DeskOut
) -> None:
    phone = browser.new_context(base_url=team.service.url, viewport={"width": 390, "height": 780})
    page = phone.new_page()
    sign_in(page, team)
    page.goto(f"/chat/{crane.id}")
    page.get_by_role("button", name=QUESTION).click()
    page.locator("[data-number]").first.click()
    expect(page.get_by_role("dialog").get_by_text("Storm plan")).to_be_visible()
    page.get_by_role("link", name="Open the document").click()
    page.wait_for_url("**/documents/**")
    assert page.evaluate("document.documentElement.scrollWidth <= innerWidth")
    phone.close()


def test_usage_and_models_are_shown(
    page: Page, team: TeamSetup, crane: s.DeskOut, service: Service
) -> None:
    team.client.ask_desk(crane.id, QUESTION)
    sign_in(page, team)
    page.get_by_role("link", name="Usage").click()
    expect(page.get_by_role("img", name=re.compile("Questions per day"))).to_be_visible()
    page.get_by_label("Count", exact=True).select_option("desk")
    expect(page.get_by_role("cell", name="Crane desk")).to_be_visible()
    page.get_by_label("Monthly budget").fill("50")
    page.get_by_role("button", name="Set budget").click()
    expect(page.get_by_text("The budget is used up")).to_be_visible()
    page.get_by_label("Monthly budget").fill("")
    page.get_by_role("button", name="Set budget").click()
    expect(page.get_by_text("The budget is used up")).to_have_count(0)
    page.context.clear_cookies()
    page.goto("/sign-in")
    page.get_by_label("E-mail").fill("operator@localhost")
    page.get_by_label("Password").fill(service.password)
    page.get_by_role("button", name="Sign in").click()
    # An operator is no member: the team's page is all there is to see.
    page.get_by_role("region", name="Usage of all teams").get_by_role(
        "link", name=team.name
    ).click()
    expect(page.get_by_role("heading", name="Members")).to_be_visible()
    page.get_by_role("link", name="Models").click()
    row = page.get_by_role("listitem").filter(has_text="honest-writer")
    row.get_by_role("button", name="Check").click()
    expect(row.get_by_text("It answered “Ready.”")).to_be_visible()
    row.get_by_role("button", name="Switch off").click()
    expect(row.get_by_text("switched off", exact=True)).to_be_visible()
    row.get_by_role("button", name="Switch on").click()
    expect(row.get_by_role("button", name="Switch off")).to_be_visible()


def test_a_desk_that_is_not_open_says_so(page: Page, team: TeamSetup) -> None:
    page.goto("/chat/desk_nothing#dl_" + "x" * 40)
    expect(page.get_by_role("heading", name="This chat is not open to you")).to_be_visible()
