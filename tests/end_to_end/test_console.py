"""The console in headless Chromium, against the real service."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, Route, expect

from fontanel import schemas as s
from tests.conftest import DOCUMENTS, STORM, Service, TeamSetup, join, new_team, until
from tests.core import samples
from tests.end_to_end.conftest import sign_in


def ask(page: Page, question: str, number: int) -> None:
    page.get_by_label("Question").fill(question)
    page.get_by_role("button", name="Ask", exact=True).click()
    expect(page.locator("[data-outcome]")).to_have_count(number)
    expect(page.locator("[data-outcome]").last).not_to_have_attribute("data-outcome", "coming")


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
    expect(page.get_by_text("Understood as: From other directions?")).to_be_visible()
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


def test_a_member_of_another_team_cannot_reach_it_by_its_address(
    page: Page, team: TeamSetup, storm: str, service: Service
) -> None:
    document = next(team.client.list_documents(storm))
    sign_in(page, new_team(service))
    base = f"/t/{team.slug}/kbs"
    for path in (
        base,
        f"{base}/{storm}/documents",
        f"{base}/{storm}/ask",
        f"{base}/{storm}/documents/{document.id}",
        f"/t/{team.slug}/team",
    ):
        page.goto(path)
        expect(page.get_by_text("Page not found")).to_be_visible()
        assert "Storm plan" not in page.content()


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


def test_owners_invite_people_and_make_keys(page: Page, team: TeamSetup) -> None:
    sign_in(page, team)
    page.get_by_role("link", name="Desks").click()
    expect(page.get_by_text("No desk yet")).to_be_visible()
    page.get_by_role("link", name="Team", exact=True).click()
    page.get_by_label("E-mail").fill(f"mate-of-{team.slug}@skerrow.example")
    page.get_by_label("Name", exact=True).fill("A mate")
    page.get_by_role("button", name="Invite").click()
    expect(page.get_by_role("status").first).to_contain_text("It is not shown again.")
    link = page.get_by_role("status").first.locator("code").inner_text()
    expect(page.get_by_role("row", name=re.compile("A mate.*invited"))).to_be_visible()
    page.get_by_label("Purpose of the key").fill("nightly upload")
    page.get_by_role("button", name="Create key").click()
    expect(page.get_by_role("status").last).to_contain_text("fk_")
    expect(page.get_by_role("row", name=re.compile("nightly upload"))).to_be_visible()
    page.get_by_role("button", name="Sign out").click()
    page.wait_for_url("**/sign-in")
    page.goto(link)
    expect(page.get_by_text(re.compile("invites"))).to_contain_text(
        f"mate-of-{team.slug}@skerrow.example"
    )
    page.get_by_label("Choose a password").fill("the mate's password")
    page.get_by_role("button", name="Join the team").click()
    page.wait_for_url("**/kbs")
    page.get_by_role("link", name="A mate").click()
    expect(page.get_by_role("row", name=re.compile("this one"))).to_be_visible()


def test_somebody_with_an_account_signs_in_to_accept(page: Page, team: TeamSetup) -> None:
    other = new_team(team.service)
    made = other.client.invite(team.email, "An owner elsewhere")
    page.goto(f"/invitation#{made.secret}")
    page.get_by_role("link", name="Sign in first").click()
    page.get_by_label("E-mail").fill(team.email)
    page.get_by_label("Password").fill(team.password)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("button", name=f"Join as {team.email}").click()
    page.wait_for_url("**/kbs")
    assert team.email in [member.email for member in other.client.list_members()]


def test_a_forgotten_password_is_replaced_with_the_operator_s_link(
    page: Page, team: TeamSetup
) -> None:
    with team.service.operator() as operator:
        link = operator.make_password_link(team.email)
    page.goto(f"/password#{link.secret}")
    page.get_by_label("Choose a new password").fill("a brand new password")
    page.get_by_role("button", name="Set the password").click()
    expect(page.get_by_role("status")).to_contain_text("The new password is set")
    page.get_by_role("link", name="Sign in").click()
    page.get_by_label("E-mail").fill(team.email)
    page.get_by_label("Password").fill("a brand new password")
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/kbs")


@pytest.mark.parametrize(
    "following",
    [
        "%2F%09%2Fevil.example",
        "%2F%2Fevil.example",
        "https%3A%2F%2Fevil.example",
        "%5C%5Cevil.example",
        "javascript%3Aalert(1)",
    ],
)
def test_signing_in_leads_nowhere_else(page: Page, team: TeamSetup, following: str) -> None:
    page.goto(f"/sign-in?next={following}")
    page.get_by_label("E-mail").fill(team.email)
    page.get_by_label("Password").fill(team.password)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url(lambda url: "/sign-in" not in url)
    assert page.url.startswith(team.service.url + "/")


def test_an_operator_grants_what_sources_may_read(page: Page, service: Service) -> None:
    slug = new_team(service).slug
    page.goto("/sign-in")
    page.get_by_label("E-mail").fill("operator@localhost")
    page.get_by_label("Password").fill(service.password)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/teams")
    page.goto(f"/t/{slug}/team")
    everything = page.get_by_label("Everything the service allows")
    expect(everything).to_be_checked()
    everything.uncheck()
    page.get_by_label("Folders, one per line").fill("/etc")
    page.get_by_role("button", name="Save what sources may read").click()
    expect(page.get_by_text(re.compile("not within FONTANEL_SOURCE_ROOTS"))).to_be_visible()
    page.get_by_label("Folders, one per line").fill("")
    page.get_by_role("button", name="Save what sources may read").click()
    expect(page.get_by_role("status").filter(has_text="Saved.")).to_be_visible()


def test_the_api_s_page_works_without_anything_from_elsewhere(page: Page, service: Service) -> None:
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url))
    page.goto("/api/docs")
    expect(page.get_by_text("Fontanel").first).to_be_visible()
    expect(page.get_by_text("knowledge bases").first).to_be_visible()
    assert all(address.startswith((service.url, "data:")) for address in asked), asked


def test_an_operator_creates_a_team(page: Page, service: Service) -> None:
    page.goto("/sign-in")
    page.get_by_label("E-mail").fill("operator@localhost")
    page.get_by_label("Password").fill(service.password)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/teams")
    page.get_by_label("Name of the new team").fill("Lighthouse keepers")
    page.get_by_role("button", name="Create team").click()
    page.get_by_role("listitem").get_by_role("link", name="Lighthouse keepers").click()
    expect(page.get_by_text("This team has no members yet.")).to_be_visible()
    expect(page.get_by_role("heading", name="Lighthouse keepers")).to_be_visible()
    expect(page.get_by_role("link", name="Desks")).to_have_count(0)


def test_a_reader_sees_no_buttons_that_change_things(
    page: Page, team: TeamSetup, storm: str, service: Service
) -> None:
    email = f"reader-{team.slug}@skerrow.example"
    password = join(team.service, team.client, email, "A reader")
    sign_in(page, TeamSetup(team.slug, team.name, email, password, "", team.client, service))
    expect(page.get_by_role("link", name="Team", exact=True)).to_have_count(0)
    page.goto(f"/t/{team.slug}/kbs/{storm}/documents")
    expect(page.get_by_role("link", name="Storm plan")).to_be_visible()
    for name in ("Add files", "Delete storm-plan.md", "Settings"):
        expect(page.get_by_text(name, exact=True)).to_have_count(0)


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


def test_signing_in_leads_back_but_never_to_another_site(
    page: Page, team: TeamSetup, kb: str, service: Service
) -> None:
    page.goto(f"/t/{team.slug}/kbs/{kb}/search")
    page.wait_for_url("**/sign-in?next=**")
    page.get_by_label("E-mail").fill(team.email)
    page.get_by_label("Password").fill("wrong wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("wrong")
    page.get_by_label("Password").fill(team.password)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url(f"**/kbs/{kb}/search")
    page.get_by_role("button", name="Sign out").click()
    page.wait_for_url("**/sign-in")
    page.goto("/sign-in?next=//elsewhere.example/")
    page.get_by_label("E-mail").fill(team.email)
    page.get_by_label("Password").fill(team.password)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/kbs")
    assert page.url.startswith(service.url)


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
    expect(page.get_by_text("rarity").first).to_be_visible()
    page.get_by_label("Compare two settings").check()
    second = page.get_by_role("region", name="Setting B")
    expect(second.get_by_text(re.compile("there number 1")).first).to_be_visible()
    page.get_by_label("Search mode (B)").select_option("vector")
    expect(second.get_by_text(re.compile("words 0.000")).first).to_be_visible()


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
    expect(page.get_by_text("rarity").first).to_be_visible()
    stored[0].continue_()
    expect(page.get_by_text("rarity").first).to_be_visible()


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
