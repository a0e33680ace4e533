"""Approved answers in headless Chromium: written, tried, asked for, changed, imported."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from fontanel import schemas as s
from tests.conftest import STORM, Service, TeamSetup, new_team, until
from tests.end_to_end.conftest import ask, sign_in

QUESTION = "At what gust does the quay crane stop?"


@pytest.fixture(scope="module")
def team(service: Service) -> TeamSetup:
    result = new_team(service)
    result.client.create_kb("Rules")
    result.client.add_document("rules", STORM, "storm-plan.md", wait=True)
    return result


def open_tab(page: Page, team: TeamSetup) -> None:
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/rules/approved")


def test_one_is_written_tried_asked_for_and_changed(page: Page, team: TeamSetup) -> None:
    open_tab(page, team)
    expect(page.get_by_text("No approved answers yet")).to_be_visible()
    page.get_by_role("link", name="New approved answer").click()
    form = page.get_by_role("form", name="Approved answer")
    form.get_by_label("Question", exact=True).fill("Who hands out parking permits?")
    form.get_by_label("Answer").fill("The **gate office**, with your contract.")
    form.get_by_label("Other wordings").fill("Where do I get a parking permit?")
    form.get_by_label("Category").fill("Access")
    form.get_by_label("Document to attach").fill("Storm plan")
    form.get_by_role("button", name="Attach").click()
    expect(form.get_by_text("whole document")).to_be_visible()
    form.get_by_role("button", name="Approve").click()
    expect(page.get_by_text("approved by Owner")).to_be_visible()
    # It is tried, and asked for.
    page.get_by_role("link", name="Approved answers").first.click()
    page.get_by_label("Question to try").fill("Who hands out a parking permit?")
    page.get_by_role("button", name="Match").click()
    expect(page.get_by_label("Matches").get_by_role("link")).to_have_text(
        "Who hands out parking permits?"
    )
    page.goto(f"/t/{team.slug}/kbs/rules/ask")
    ask(page, "where do I get a parking permit", 1)
    expect(page.locator("[data-outcome] b")).to_have_text("gate office")
    expect(page.get_by_text("Approved by Owner")).to_be_visible()
    expect(page.get_by_label("Citations").get_by_text("whole document")).to_be_visible()
    # Another change came in between; then it is changed and retired.
    page.goto(f"/t/{team.slug}/kbs/rules/approved?category=Access")
    page.get_by_role("link", name="Who hands out parking permits?").click()
    form.get_by_label("Answer").fill("The harbour office.")
    form.get_by_role("button", name="Save").click()
    expect(page.get_by_role("status")).to_have_text("Saved.")
    expect(page.get_by_label("Versions").get_by_text("Version 2")).to_be_visible()
    form.get_by_role("button", name="Retire").click()
    expect(page.locator("[data-state=retired]")).to_be_visible()
    assert team.client.ask("rules", "Who hands out parking permits?").approval is None


def test_an_answer_is_approved_from_where_it_was_given(page: Page, team: TeamSetup) -> None:
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/rules/ask")
    ask(page, QUESTION, 1)
    page.get_by_role("link", name="Approve this answer").click()
    form = page.get_by_role("form", name="Approved answer")
    expect(form.get_by_label("Question", exact=True)).to_have_value(QUESTION)
    expect(form.get_by_text("“The quay crane stops").first).to_be_visible()
    form.get_by_label("Answer").fill("At 38 knots. Pin it at 44.")
    form.get_by_label("Other wordings").fill("When does the big crane stop in wind?")
    form.get_by_role("button", name="Approve").click()
    expect(page.get_by_text("approved by Owner")).to_be_visible()
    expect(page.get_by_role("link", name="The answer that it was made from")).to_be_visible()
    answer = team.client.ask("rules", "When does the big crane stop in wind?")
    assert answer.text == "At 38 knots. Pin it at 44."
    assert "The quay crane stops" in answer.citations[0].quote


def test_an_answer_whose_text_changes_is_flagged_and_corrected(page: Page, team: TeamSetup) -> None:
    client = team.client
    client.write_document("rules", "siren.md", "# Siren\n\nThe siren is tested at 10:00.\n")
    client.wait_for_document("rules", "siren.md")
    text = client.document_text("rules", "siren.md").text.rstrip()
    siren = s.ApprovedIn.model_validate(
        {
            "question": "At what time is the siren tested?",
            "text": "At 10:00.",
            "state": "approved",
            "places": [{"document": "siren.md", "start": text.index("The"), "end": len(text)}],
        }
    )
    client.create_approved("rules", siren)
    open_tab(page, team)
    expect(page.get_by_role("link", name="At what time is the siren tested?")).to_be_visible()
    document = client.show_document("rules", "siren.md")
    client.rewrite_document(
        "rules", document.id, "# Siren\n\nThe siren is tested at 11:00.\n", document.version
    )
    client.wait_for_document("rules", document.id)
    until(lambda: client.list_flags("rules"))
    flagged = page.get_by_label("Changed text")
    expect(flagged.get_by_text("states something else")).to_be_visible()
    expect(flagged.get_by_text("The siren is tested at 11:00.")).to_be_visible()
    assert client.ask("rules", siren.question).approval is None
    flagged.get_by_role("link", name="Correct or retire").click()
    form = page.get_by_role("form", name="Approved answer")
    form.get_by_label("Answer").fill("At 11:00.")
    form.get_by_role("button", name="Save").click()
    expect(page.get_by_label("Changed text")).to_be_hidden()
    answer = client.ask("rules", siren.question)
    assert (answer.text, answer.composer) == ("At 11:00.", "approved")
    assert answer.citations[0].quote == "The siren is tested at 11:00."


def test_a_near_question_is_offered_as_a_choice(page: Page, team: TeamSetup) -> None:
    settings = s.DeskSettings(kbs=[s.DeskKb(kb="rules")], approved_needed=1.0)
    desk = team.client.create_desk("Gate", settings)
    team.client.publish_desk(desk.id)
    permit = s.ApprovedIn(question="Who signs visitor passes?", text="The gate.", state="approved")
    team.client.create_approved("rules", permit)
    sign_in(page, team)
    page.goto(f"/chat/{desk.id}")
    page.get_by_label("Question").fill("Who is it that signs a visitor pass?")
    page.get_by_role("button", name="Ask", exact=True).click()
    page.get_by_role("button", name="Who signs visitor passes?").click()
    expect(page.locator("[data-outcome]").last).to_have_text("The gate.")


def test_files_are_imported_and_problems_listed(
    page: Page, team: TeamSetup, tmp_path: Path
) -> None:
    open_tab(page, team)
    file = tmp_path / "answers.csv"
    file.write_text("question,text\nIs the gate open at night?\n")
    chooser = page.get_by_label("File of approved answers")
    chooser.set_input_files(file)
    expect(page.get_by_text("Line 2:")).to_be_visible()
    file.write_text("question,text,category\nIs the gate open at night?,No.,Gate\n")
    chooser.set_input_files(file)
    expect(page.get_by_label("Import and export").get_by_role("status")).to_have_text(
        "1 created, 0 changed, 0 unchanged."
    )
    page.get_by_label("State").select_option("draft")
    expect(page.get_by_role("link", name="Is the gate open at night?")).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="Export as CSV").click()
    assert "Is the gate open at night?,No." in Path(download.value.path()).read_text()
