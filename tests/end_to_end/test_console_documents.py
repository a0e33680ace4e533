"""Documents in the console: trying, reading, opening next to the original."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.conftest import DOCUMENTS, STORM, TeamSetup
from tests.core import samples
from tests.end_to_end.conftest import ask, sign_in


def test_documents_fail_are_found_tagged_and_deleted(
    page: Page, team: TeamSetup, storm: str
) -> None:
    team.client.add_document(storm, b"%PDF-1.7 nothing", "bad.pdf", wait=True)
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{storm}/documents")
    expect(page.get_by_role("row", name=re.compile("bad.pdf"))).to_contain_text(
        "failed: The PDF is damaged"
    )
    expect(page.get_by_role("button", name="Retry")).to_be_visible()
    page.get_by_label("Search documents").fill("storm")
    expect(page.get_by_role("row")).to_have_count(2)
    page.get_by_role("link", name="Storm plan").click()
    page.get_by_label("New tag").fill("status=in force")
    page.get_by_role("button", name="Add tag").click()
    expect(page.get_by_role("list", name="Tags")).to_contain_text("status: in force")
    page.get_by_label("Show passages").check()
    expect(page.get_by_text("passage 1 ·")).to_be_visible()
    page.get_by_role("link", name="All documents").click()
    page.on("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="Delete bad.pdf").click()
    expect(page.get_by_role("row", name=re.compile("bad.pdf"))).to_have_count(0)


def test_a_document_can_be_tried_before_anything_is_built(
    page: Page, team: TeamSetup, tmp_path: Path
) -> None:
    path = tmp_path / "storm-plan.md"
    path.write_bytes(STORM)
    sign_in(page, team)
    page.get_by_text("Try a document").wait_for()
    page.locator("input[type=file]").set_input_files(path)
    page.wait_for_url("**/ask")
    expect(page.get_by_text("expires")).to_be_visible()
    expect(page.get_by_text(re.compile("1 documents$"))).to_be_visible(timeout=30_000)
    ask(page, "At what gust does the quay crane stop?", 1)
    expect(page.locator("[data-outcome]")).to_contain_text("38 knots")


def test_a_citation_opens_beside_its_original(page: Page, team: TeamSetup, kb: str) -> None:
    handbook = DOCUMENTS / "marine-operations" / "pilotage-handbook.pdf"
    document = team.client.add_document(kb, handbook, wait=True).document
    text = team.client.document_text(kb, document.id).text
    start = text.index("Boarding")
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{kb}/documents/{document.id}?from={start}&to={start + 8}")
    expect(page.locator("mark").first).to_have_text("Boarding")
    expect(page.locator("[data-marked=cited]").first).to_be_visible()
    picture = page.get_by_alt_text(re.compile("Page .* of the original"))
    assert picture.evaluate("image => image.decode().then(() => image.naturalWidth)") == 900
    page.get_by_label("Go to page").select_option("2")
    expect(page.get_by_alt_text("Page 2 of the original")).to_be_visible()
    page.get_by_label("Find in this document").fill("tug")
    expect(page.get_by_role("status")).to_have_text(re.compile(r"1 of \d+"))
    page.get_by_label("Find in this document").press("Enter")
    expect(page.get_by_role("status")).to_have_text(re.compile(r"2 of \d+"))
    expect(page.locator("[data-now]")).to_have_text(re.compile("tug", re.I))
    page.get_by_label("Find in this document").fill("zeppelin")
    expect(page.get_by_role("status")).to_have_text("not there")
    expect(page.get_by_label("Reading report")).to_contain_text("3,908")
    page.get_by_label("Go to page").select_option("3")
    expect(page.get_by_role("link", name="Open the original")).to_have_attribute(
        "href", re.compile("#page=3$")
    )


def test_a_file_can_be_tried_with_other_cuts(
    page: Page, team: TeamSetup, kb: str, tmp_path: Path
) -> None:
    file = tmp_path / "lock.txt"
    file.write_text("The lock opens at nine each morning and shuts at dusk. " * 40)
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{kb}/try")
    page.get_by_label("File to try").set_input_files(file)
    facts = page.locator("dl")
    expect(facts).to_contain_text("440")
    before = page.get_by_text(re.compile(r"^passage \d+ ·")).count()
    page.get_by_label("Tokens per passage").fill("60")
    page.get_by_label("Minimum tokens").fill("20")
    page.get_by_role("button", name="Try again").click()
    expect(page.get_by_text(re.compile(r"^passage \d+ ·")).nth(before)).to_be_visible()
    assert list(team.client.list_documents(kb)) == []
    broken = tmp_path / "broken.pdf"
    broken.write_bytes(b"%PDF-1.7 nothing")
    page.get_by_label("File to try").set_input_files(broken)
    expect(page.get_by_role("alert")).to_contain_text("damaged")


def test_warnings_and_files_inside_are_seen(page: Page, team: TeamSetup, kb: str) -> None:
    team.client.add_document(
        kb,
        samples.zipped({"dues.xlsx": samples.workbook(), "storm.md": STORM}),
        "all.zip",
        wait=True,
    )
    team.client.wait_for_document(kb, "all.zip/dues.xlsx")
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{kb}/documents")
    page.get_by_label("State").select_option("warned")
    expect(page.get_by_text("1 warning")).to_be_visible()
    page.get_by_role("link", name="Dues").click()
    expect(page.get_by_text("The hidden sheet 'Secret' was left out")).to_be_visible()
    page.get_by_role("link", name="another document").click()
    expect(page.get_by_role("heading", name="All")).to_be_visible()


def test_two_settings_are_compared_on_one_question(page: Page, team: TeamSetup, storm: str) -> None:
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{storm}/search")
    page.get_by_label("Search", exact=True).fill("wind limit outer berth")
    page.get_by_role("button", name="Search").click()
    page.get_by_label("Explain the scores").check()
    expect(page.get_by_role("columnheader", name="weight").first).to_be_visible()
    page.get_by_label("Compare two settings").check()
    second = page.get_by_role("region", name="Setting B")
    expect(second.get_by_text(re.compile("rank 1 in the other")).first).to_be_visible()
    page.get_by_label("Search mode (B)").select_option("vector")
    expect(second.get_by_text(re.compile("keywords 0.000")).first).to_be_visible()


def test_slides_and_sheets_look_as_people_know_them(page: Page, team: TeamSetup, kb: str) -> None:
    deck = team.client.add_document(kb, samples.deck(), "briefing.pptx", wait=True).document
    book = team.client.add_document(kb, samples.workbook(), "dues.xlsx", wait=True).document
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{kb}/documents/{deck.id}")
    slide = page.get_by_label("Slide 1")
    expect(slide.get_by_role("heading")).to_be_visible()
    page.get_by_role("button", name="Next slide").click()
    expect(page.get_by_label("Slide 2").get_by_role("heading")).to_be_visible()
    page.goto(f"/t/{team.slug}/kbs/{kb}/documents/{book.id}")
    tabs = page.get_by_role("tab")
    expect(tabs.first).to_have_attribute("aria-selected", "true")
    expect(tabs).to_have_count(1)  # the hidden sheet is none
    expect(page.get_by_role("row", name=re.compile("Merrow"))).to_contain_text("3")


def test_a_long_table_shows_so_many_rows_at_a_time(page: Page, team: TeamSetup, kb: str) -> None:
    rows = "\n".join(f"Vessel {n},Berth {n % 9}" for n in range(450))
    added = team.client.add_document(
        kb, f"Vessel,Berth\n{rows}\n".encode(), "calls.csv", wait=True
    ).document
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{kb}/documents/{added.id}")
    expect(page.get_by_text("rows 1–200 of 450")).to_be_visible()
    page.get_by_label("Find in this document").fill("Vessel 431")
    expect(page.get_by_text("rows 401–450 of 450")).to_be_visible()
    expect(page.locator("[data-now]")).to_have_text("Vessel 431")


def test_an_edition_is_built_tried_and_switched_to(page: Page, team: TeamSetup, storm: str) -> None:
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{storm}/settings")
    editions = page.get_by_role("region", name="Editions")
    expect(editions.get_by_role("row")).to_have_count(2)
    editions.get_by_label("Tokens per passage").fill("60")
    editions.get_by_label("Minimum tokens").fill("20")
    editions.get_by_role("button", name="Build an edition").click()
    second = editions.get_by_role("row", name=re.compile("60 tokens per passage"))
    second.get_by_role("button", name="Switch", exact=True).click()
    expect(second).to_contain_text("active")
    page.goto(f"/t/{team.slug}/kbs/{storm}/search")
    page.get_by_label("Search", exact=True).fill("wind limit")
    page.get_by_role("button", name="Search").click()
    expect(page.get_by_role("article").first).to_be_visible()
    page.get_by_label("Edition", exact=True).select_option("1")
    expect(page.get_by_role("article").first).to_be_visible()
    page.goto(f"/t/{team.slug}/kbs/{storm}/settings")
    page.on("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="Delete edition 1").click()
    expect(editions.get_by_role("row")).to_have_count(2)
    editions.get_by_role("button", name="Build an edition").click()
    expect(editions.get_by_role("alert")).to_contain_text("these very settings")


def test_an_owner_erases_a_document_after_being_asked(
    page: Page, team: TeamSetup, storm: str
) -> None:
    answer = team.client.ask(storm, "At what gust does the quay crane stop?")
    document = team.client.show_document(storm, "storm-plan.md")
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{storm}/documents/{document.id}")
    page.get_by_role("button", name="Erase…").click()
    expect(page.get_by_text("This cannot be undone.")).to_be_visible()
    page.get_by_role("button", name="Erase it and its answers").click()
    erased = page.get_by_label("Erased documents")
    expect(erased).to_contain_text("documents: 1")
    expect(erased).to_contain_text("answers: 1")
    assert "erased" in team.client.show_answer(answer.turn_id).text


def test_an_editor_decides_about_proposed_documents(
    page: Page, team: TeamSetup, storm: str
) -> None:
    client = team.client
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/{storm}/settings")
    page.get_by_label("Let programs propose documents").check()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Saved.")).to_be_visible()
    client.propose_document(
        storm, "fenders.md", "# Fenders\n\nIn shed 4.\n", "Said by the foreman."
    )
    client.write_document(storm, "keys.md", "# Keys\n\nThe key is in the gatehouse.\n")
    client.wait_for_document(storm, "keys.md")
    client.propose_document(storm, "keys.md", "# Keys\n\nThe key is in the tower.\n")
    page.get_by_role("link", name="Proposed documents (2)").click()
    fenders = page.get_by_role("listitem").filter(has_text="fenders.md")
    expect(fenders).to_contain_text("a new document")
    expect(fenders).to_contain_text("Said by the foreman.")
    expect(fenders).to_contain_text("In shed 4.")
    keys = page.get_by_role("listitem").filter(has_text="keys.md")
    expect(keys.locator("[data-change=changed]")).to_contain_text("gatehouse")
    expect(keys.locator("[data-change=changed]")).to_contain_text("tower")
    fenders.get_by_role("button", name="Accept").click()
    expect(page.get_by_role("status")).to_contain_text("fenders.md was accepted")
    expect(fenders).to_have_count(0)
    keys.get_by_label("Note on keys.md").fill("It is not.")
    keys.get_by_role("button", name="Dismiss").click()
    expect(page.get_by_text("No document waits for a decision.")).to_be_visible()
    (dismissed,) = client.list_proposed_documents(storm, "dismissed")
    assert dismissed.note == "It is not."
    client.wait_for_document(storm, "fenders.md")
    assert "gatehouse" in client.written_text(storm, "keys.md").text
