"""From a document to an approved answer that outlives its change, in headless Chromium."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from fontanel import schemas as s
from tests.conftest import Service, new_team, until
from tests.end_to_end.conftest import ask, sign_in

RULES = """# Berth rules

A ship may lie at a berth for 5 days. Hull scraping in the water is not allowed.

## Prices

Fresh water costs 3.20 crowns a tonne. Shore power costs 0.31 crowns a kilowatt-hour. A line
handler costs 24 crowns. The crane is tested every two weeks.
"""
QUESTION = "How much does fresh water cost?"


def test_a_proposed_question_is_approved_served_flagged_and_corrected(
    page: Page, service: Service
) -> None:
    team = new_team(service)
    client = team.client
    client.create_kb("Rules")
    client.write_document("rules", "berths.md", RULES)
    document = client.wait_for_document("rules", "berths.md")
    desk = client.create_desk("Crews", s.DeskSettings(kbs=[s.DeskKb(kb="rules")]))
    client.publish_desk(desk.slug)
    sign_in(page, team)
    # Its questions are proposed at the margin; three are approved, one is dismissed.
    page.goto(f"/t/{team.slug}/kbs/rules/documents/{document.id}")
    page.get_by_role("link", name="questions it answers").click()
    page.get_by_role("button", name="Propose questions").click()
    water = page.get_by_label(QUESTION)
    expect(water).to_be_visible()
    water.check()
    others = page.get_by_role("listitem").filter(has=page.get_by_role("checkbox", checked=False))
    others.first.get_by_role("checkbox").check()
    others.first.get_by_role("checkbox").check()
    page.get_by_label("Category").fill("Berths")
    page.get_by_role("button", name="Approve 3").click()
    expect(page.get_by_text("approved by Owner")).to_have_count(3)
    left = page.get_by_role("button", name="Dismiss", exact=True)
    while (number := left.count()) > 1:
        left.last.click()
        expect(left).not_to_have_count(number)
    assert {one.category for one in client.list_approved("rules")} == {"Berths"}
    # A chat user asks in other words.
    page.goto(f"/chat/{desk.id}")
    ask(page, "What would the fresh water cost me?", 1)
    expect(page.get_by_text("Approved by Owner")).to_be_visible()
    expect(page.get_by_text("Fresh water costs 3.20 crowns a tonne.").first).to_be_visible()
    # The value changes: the answer is withheld until somebody has corrected it.
    row = client.show_document("rules", "berths.md")
    client.rewrite_document("rules", row.id, RULES.replace("3.20", "4.10"), row.version)
    client.wait_for_document("rules", "berths.md")
    until(lambda: client.list_flags("rules"))
    (flag,) = client.list_flags("rules")
    assert flag.change == "contradicted"
    assert client.ask_desk(desk.slug, QUESTION).approval is None
    page.goto(f"/t/{team.slug}/kbs/rules/approved/{flag.approved_id}")
    form = page.get_by_role("form", name="Approved answer")
    form.get_by_label("Answer").fill("Fresh water costs 4.10 crowns a tonne.")
    form.get_by_role("button", name="Save").click()
    until(lambda: client.list_flags("rules") == [])
    page.goto(f"/chat/{desk.id}")
    ask(page, QUESTION, 1)
    expect(page.get_by_text("Fresh water costs 4.10 crowns a tonne.").first).to_be_visible()
    assert client.ask_desk(desk.slug, QUESTION).approval is not None


def test_a_second_version_is_served_and_published(page: Page, service: Service) -> None:
    team = new_team(service)
    client = team.client
    client.create_kb("Rules")
    desk = client.create_desk("Crews", s.DeskSettings(kbs=[s.DeskKb(kb="rules")]))
    client.publish_desk(desk.slug)
    version = client.show_desk(desk.slug).version
    client.change_desk(desk.slug, {"length": "short"}, version=version)
    client.publish_desk(desk.slug)
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/desks/{desk.slug}/versions")
    section = page.get_by_label("Second version")
    section.get_by_label("% of the askers").fill("40")
    section.get_by_role("button", name="Begin").click()
    expect(section.get_by_text("40 % of the askers get version 1")).to_be_visible()
    expect(section.get_by_role("table", name="Both versions")).to_be_visible()
    section.get_by_role("button", name="Publish version 1").click()
    expect(section.get_by_role("button", name="Begin")).to_be_visible()
    assert client.show_desk(desk.slug).published.number == 1  # type: ignore[union-attr]
