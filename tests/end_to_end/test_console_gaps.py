"""Gaps, feedback and coverage in headless Chromium."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from fontanel import schemas as s
from tests.conftest import STORM, Service, TeamSetup, new_team, until
from tests.end_to_end.conftest import sign_in

CANTEEN = "When is the canteen open?"
CRANE = "At what gust does the quay crane stop?"


@pytest.fixture
def team(service: Service) -> TeamSetup:
    result = new_team(service)
    result.client.create_kb("Rules")
    result.client.add_document("rules", STORM, "storm-plan.md", wait=True)
    settings = s.DeskSettings(kbs=[s.DeskKb(kb="rules")])
    result.client.publish_desk(result.client.create_desk("Crews", settings).slug)
    return result


def test_a_gap_is_closed_by_a_new_document(page: Page, team: TeamSetup) -> None:
    team.client.ask_desk("crews", CANTEEN)
    second = team.client.ask_desk("crews", CANTEEN.upper())
    sign_in(page, team)
    page.get_by_role("link", name="Gaps").click()
    gaps = page.get_by_role("list", name="Gaps")
    expect(gaps.get_by_text("2 declined")).to_be_visible()
    gaps.get_by_role("link", name="canteen").click()
    page.get_by_label("Assigned to").fill("I. Varda")
    page.get_by_label("Comment", exact=True).fill("The caterer has to say.")
    page.get_by_role("button", name="Add").click()
    expect(page.get_by_label("Comments").get_by_text("The caterer has to say.")).to_be_visible()
    questions = page.get_by_label("Its questions")
    questions.get_by_role("listitem").first.get_by_role("button", name="Take out").click()
    expect(questions.get_by_role("listitem")).to_have_count(1)
    assert team.client.show_gap(page.url.rsplit("/", 1)[1]).assignee == "I. Varda"
    team.client.write_document(
        "rules", "canteen.md", "# Canteen\n\nThe canteen is open from 6:00 to 14:00.\n"
    )
    expect(page.get_by_label("The answer by now")).to_contain_text("6:00 to 14:00")
    expect(page.get_by_role("status").filter(has_text="answered by now")).to_be_visible()
    # The other one is answered too, as it asks for the same.
    until(lambda: team.client.list_gaps() == [])
    page.get_by_role("link", name="All gaps").click()
    page.get_by_label("State").select_option("Resolved")
    expect(gaps.get_by_text("answered by now")).to_have_count(2)
    assert team.client.show_answer(second.turn_id).outcome == "declined"


def test_a_gap_leads_to_an_approved_answer(page: Page, team: TeamSetup) -> None:
    team.client.ask_desk("crews", CANTEEN)
    until(lambda: team.client.list_gaps())
    team.client.create_set("What was asked")
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/gaps/questions/{team.client.list_gaps()[0].id}")
    page.get_by_role("button", name="Add this question").click()
    expect(page.get_by_text("Added.")).to_be_visible()
    (taken,) = team.client.list_set_questions("what-was-asked")
    assert taken.question == CANTEEN
    page.get_by_role("link", name="Approve an answer").click()
    form = page.get_by_role("form", name="Approved answer")
    expect(form.get_by_label("Question", exact=True)).to_have_value(CANTEEN)
    form.get_by_label("Answer").fill("From 6:00 to 14:00.")
    form.get_by_role("button", name="Approve").click()
    until(lambda: team.client.list_gaps() == [])
    assert team.client.ask_desk("crews", CANTEEN).text == "From 6:00 to 14:00."


def test_the_asker_gets_a_reply(page: Page, team: TeamSetup) -> None:
    answer = team.client.ask_desk("crews", CRANE)
    team.client.give_feedback(
        "crews", answer.turn_id, helpful=False, reason="wrong", comment="Not the quay."
    )
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/gaps/feedback")
    entry = page.get_by_role("list", name="Feedback").get_by_role("listitem")
    expect(entry).to_contain_text("It is wrong “Not the quay.”")
    entry.get_by_label("Reply to the asker").fill("It is corrected now.")
    entry.get_by_role("button", name="Reply").click()
    expect(page.get_by_text("No feedback waits")).to_be_visible()
    page.get_by_label("also what was handled").check()
    expect(entry).to_contain_text("It is corrected now.")
    turns = team.client.show_conversation(answer.conversation_id, desk="crews")
    assert turns[0].feedback[0].reply == "It is corrected now."


def test_coverage_is_a_map_of_the_document(page: Page, team: TeamSetup) -> None:
    team.client.ask_desk("crews", CRANE)
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/rules/coverage")
    table = page.get_by_role("table", name="Coverage")
    table.get_by_role("link", name="Storm plan").click()
    expect(page.get_by_role("list", name="Passages").get_by_text("cited 1 of 1")).to_be_visible()
    cells = page.get_by_label("Map of the passages").get_by_role("link")
    assert cells.count() == len(team.client.show_document_coverage("rules", "storm-plan.md"))
    page.goto(f"/t/{team.slug}/kbs/rules/coverage")
    page.get_by_label("Only documents that no answer needed").check()
    expect(page.get_by_text("No such documents.")).to_be_visible()


def test_past_answers_whose_text_changed_are_listed(page: Page, team: TeamSetup) -> None:
    client = team.client
    client.ask_desk("crews", CRANE)
    document = client.show_document("rules", "storm-plan.md")
    text = STORM.decode().replace("38 knots", "36 knots")
    client.rewrite_document("rules", document.id, text, document.version)
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/gaps/changed")
    changed = page.get_by_role("list", name="Changed answers")
    expect(changed.get_by_text("now:")).to_contain_text("36 knots")
    expect(changed.get_by_text("before:")).to_contain_text("38 knots")
    changed.get_by_role("link", name=CRANE).click()
    expect(page.get_by_text("cites text that has changed since")).to_be_visible()
