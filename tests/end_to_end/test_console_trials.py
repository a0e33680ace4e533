"""Question sets and trials in headless Chromium."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from fontanel import schemas as s
from tests.conftest import STORM, Service, TeamSetup, new_team
from tests.end_to_end.conftest import ask, sign_in

CRANE = "At what gust does the quay crane stop?"


@pytest.fixture
def team(service: Service) -> TeamSetup:
    result = new_team(service)
    result.client.create_kb("Rules")
    result.client.add_document("rules", STORM, "storm-plan.md", wait=True)
    settings = s.DeskSettings(kbs=[s.DeskKb(kb="rules")])
    result.client.publish_desk(result.client.create_desk("Crews", settings).slug)
    return result


def test_a_set_is_written_asked_and_compared(page: Page, team: TeamSetup) -> None:
    sign_in(page, team)
    page.get_by_role("link", name="Trials").click()
    expect(page.get_by_text("No question sets yet")).to_be_visible()
    page.get_by_label("Name of the new question set").fill("Crane")
    page.get_by_role("button", name="Create question set").click()
    page.get_by_role("button", name="Add a question").click()
    form = page.get_by_role("form", name="Question")
    form.get_by_label("Question", exact=True).fill(CRANE)
    form.get_by_label("The answer contains").fill("38 knots")
    form.get_by_label("Kind").fill("limits")
    form.get_by_role("button", name="Save question").click()
    expect(page.get_by_text("contains “38 knots”")).to_be_visible()
    page.get_by_role("button", name="Add a question").click()
    form.get_by_label("Question", exact=True).fill("Who owns the moon?")
    form.get_by_label("The documents do not answer it").check()
    form.get_by_role("button", name="Save question").click()
    expect(page.get_by_text("must be declined", exact=True)).to_be_visible()
    # The desk's draft is asked and compared with the published version.
    draft = {"evidence_needed": 1.0}
    team.client.change_desk("crews", draft, version=team.client.show_desk("crews").version)
    page.get_by_role("link", name="Run a trial").click()
    page.get_by_label("Ask").select_option("the desk Crews")
    page.get_by_label("Compare with").select_option("version 1, published")
    page.get_by_role("button", name="Begin").click()
    expect(page.get_by_label("Figures").get_by_text("50 % (1/2)").first).to_be_visible()
    expect(
        page.get_by_label("Answers", exact=True).last.get_by_text("declined rightly", exact=True)
    ).to_be_visible()
    page.get_by_role("button", name="Compare", exact=True).click()
    expect(page.get_by_role("status")).to_contain_text("0 won, 1 lost, 0 changed, 1 the same")
    answers = page.get_by_role("list", name="Answers")
    expect(answers.get_by_text("declined", exact=True)).to_be_visible()
    page.get_by_label("Show answers that are the same").check()
    expect(answers.get_by_text("Who owns the moon?")).to_be_visible()
    answers.get_by_role("link", name="Record").first.click()
    expect(page.get_by_text("a trial")).to_be_visible()


def test_a_draft_that_loses_a_question_cannot_be_published(page: Page, team: TeamSetup) -> None:
    client = team.client
    made = client.create_set("Crane")
    client.add_set_questions(made.slug, [s.SetQuestionIn(question=CRANE, contains=["38 knots"])])
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/desks/crews/build")
    page.get_by_label("Question set to pass").select_option("Crane (1)")
    page.get_by_label("Evidence needed").fill("1")
    page.get_by_role("button", name="Publish").click()
    expect(page.get_by_role("alert")).to_contain_text("has to pass the question set 'Crane' first")
    page.get_by_role("link", name="Run a trial").click()
    page.get_by_label("Compare with").select_option("version 1, published")
    page.get_by_role("button", name="Begin").click()
    expect(page.get_by_label("Figures").get_by_text("0 % (0/1)").first).to_be_visible()
    page.goto(f"/t/{team.slug}/desks/crews/build")
    page.get_by_role("button", name="Publish").click()
    expect(page.get_by_role("alert")).to_contain_text("The draft loses 1 of the questions")
    assert client.show_desk("crews").published.number == 1  # type: ignore[union-attr]


def test_what_was_asked_joins_a_set(page: Page, team: TeamSetup, tmp_path: Path) -> None:
    client = team.client
    made = client.create_set("Crane")
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/rules/ask")
    ask(page, CRANE, 1)
    page.get_by_role("link", name="how this answer was made").click()
    page.get_by_role("button", name="Add this question").click()
    expect(page.get_by_role("status").filter(has_text="Added.")).to_be_visible()
    page.get_by_role("link", name="Show the set").click()
    expect(page.get_by_text("cites storm-plan.md, cites")).to_be_visible()
    page.get_by_role("button", name="Remove").click()
    expect(page.get_by_text("No questions yet")).to_be_visible()
    file = tmp_path / "questions.jsonl"
    file.write_text('{"question": "Who stops the crane?"}\n')
    page.get_by_label("File of questions").set_input_files(file)
    expect(page.get_by_text("1 questions added.")).to_be_visible()
    assert client.show_set(made.slug).questions == 1
    page.get_by_label("Asked automatically").select_option("each night")
    expect(page.get_by_label("of the desk")).to_be_visible()
    assert client.show_set(made.slug).schedule == "nightly"


def test_an_edition_has_to_pass_a_set(page: Page, team: TeamSetup) -> None:
    client = team.client
    client.create_set("Berths")
    question = s.SetQuestionIn(question="How deep is Berth 4?", contains=["6.8"])
    client.add_set_questions("berths", [question])
    client.build_edition("rules", s.Splitting(target_tokens=60), wait=True)
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/rules/settings")
    page.get_by_label("Question set to pass").select_option("Berths (1)")
    page.get_by_label("Questions that may be lost").fill("2")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Saved.")).to_be_visible()
    assert client.show_kb("rules").max_losses == 2
    editions = page.get_by_label("Editions")
    editions.get_by_role("button", name="Switch").click()
    expect(editions.get_by_text("has to pass the question set 'Berths' first")).to_be_visible()
    editions.get_by_role("link", name="Try").click()
    expect(page.get_by_role("combobox", name="Edition", exact=True)).to_have_value("2")
    page.get_by_label("Compare with").select_option("edition 1, active")
    page.get_by_role("button", name="Begin").click()
    expect(page.get_by_role("heading", name="Rules, edition 2")).to_be_visible()
    expect(page.get_by_label("Figures").get_by_text("100 % (1/1)").first).to_be_visible()
    page.goto(f"/t/{team.slug}/kbs/rules/settings")
    editions.get_by_role("button", name="Switch").click()
    expect(editions.get_by_role("row", name="2 active")).to_be_visible()
