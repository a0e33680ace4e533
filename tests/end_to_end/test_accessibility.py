"""Every page meets WCAG 2.2 AA and axe's best practices, in both themes and on a phone."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import pytest
from playwright.sync_api import Browser, Page, expect

from fontanel import schemas as s
from tests.conftest import ROOT, STORM, Service, TeamSetup, new_team
from tests.end_to_end.conftest import ask, sign_in

AXE = (ROOT / "console/node_modules/axe-core/axe.min.js").read_text()
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
#: Runs axe and returns a line for each kind of fault, with the first element that has it.
RUN = """async (tags) => {
    const found = await axe.run(document, {runOnly: {type: "tag", values: tags}});
    return found.violations.map((fault) =>
        `${fault.id} (${fault.nodes.length}): ${fault.nodes[0].html.slice(0, 200)}`);
}"""


@dataclass
class Filled:
    """A team with something on each page."""

    team: TeamSetup
    desk: str
    link: str
    answer: str
    document: str
    source: str
    approved: str

    def pages(self) -> list[str]:
        team = f"/t/{self.team.slug}"
        kb = f"{team}/kbs/rules"
        return [
            f"{team}/kbs",
            f"{kb}/documents",
            f"{kb}/sources",
            f"{kb}/sources/{self.source}",
            f"{kb}/search",
            f"{kb}/ask",
            f"{kb}/approved",
            f"{kb}/approved/{self.approved}",
            f"{kb}/approved/new",
            f"{kb}/proposed",
            f"{kb}/try",
            f"{kb}/settings",
            f"{kb}/write",
            f"{kb}/documents/{self.document}",
            f"{team}/desks",
            f"{team}/desks/{self.desk}/build",
            f"{team}/desks/{self.desk}/versions",
            f"{team}/desks/{self.desk}/share",
            f"{team}/desks/{self.desk}/answers",
            f"{team}/answers/{self.answer}",
            f"{team}/freshness",
            f"{team}/team",
            f"{team}/usage",
            "/account",
            f"/chat/{self.desk}",
        ]


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("accessible")
    started = Service(folder / "data", {"FONTANEL_SOURCE_ROOTS": str(folder)}).start()
    yield started
    started.stop()


@pytest.fixture(scope="module")
def filled(service: Service) -> Filled:
    team = new_team(service)
    client = team.client
    kb = client.create_kb("Rules")
    added = client.add_document(kb.slug, STORM, "storm.md", {"year": "2024"}, wait=True)
    client.add_document(kb.slug, b"%PDF-1.4 damaged", "damaged.pdf")
    client.change_kb(kb.slug, accepts_proposed_documents=True)
    client.propose_document(kb.slug, "fenders.md", "# Fenders\n\nIn shed 4.\n", "Asked.")
    notices = service.data.parent / "notices"
    notices.mkdir()
    (notices / "siren.md").write_text("# Siren\n\nThe siren is tested at noon.\n")
    source = client.connect_source(
        kb.slug, s.SourceIn(name="Notices", kind="folder", settings={"path": str(notices)})
    )
    client.wait_for_sync(kb.slug, source.id, "latest")
    settings = s.DeskSettings(
        kbs=[s.DeskKb(kb=kb.id)], audience="link", first_questions=["When is the siren tested?"]
    )
    desk = client.create_desk("Harbour desk", settings)
    client.publish_desk(desk.id)
    link = client.make_desk_link(desk.id, "Crew")
    answer = client.ask_desk(desk.id, "At what gust does the quay crane stop?")
    approved = client.approve_answer(kb.slug, answer.turn_id, state="approved")
    return Filled(
        team, desk.id, link.url, answer.turn_id, added.document.id, source.id, approved.id
    )


def faults(page: Page) -> list[str]:
    page.evaluate(AXE)
    result: list[str] = page.evaluate(RUN, RULES)
    return [f"{page.url}: {fault}" for fault in result]


@pytest.mark.parametrize(("scheme", "width"), [("light", 1280), ("dark", 1280), ("light", 390)])
def test_no_page_has_a_fault(
    browser: Browser, service: Service, filled: Filled, scheme: str, width: int
) -> None:
    context = browser.new_context(
        base_url=service.url,
        viewport={"width": width, "height": 800},
        color_scheme=scheme,  # type: ignore[arg-type]
        reduced_motion="reduce",
    )
    page = context.new_page()
    found = []
    page.goto("/sign-in")
    expect(page.get_by_label("E-mail")).to_be_visible()
    found += faults(page)
    sign_in(page, filled.team)
    for path in filled.pages():
        page.goto(path)
        page.wait_for_load_state("networkidle" if "freshness" not in path else "load")
        expect(page.get_by_role("main")).to_be_visible()
        found += faults(page)
        if width == 390:
            assert page.evaluate("document.documentElement.scrollWidth <= innerWidth"), path
    page.goto(f"/t/{filled.team.slug}/kbs/rules/ask")
    ask(page, "At what gust does the quay crane stop?", 1)
    found += faults(page)
    found += faults_of_dialogs(page, filled, scheme, width)
    context.close()
    assert not found, "\n".join(found)


def faults_of_dialogs(page: Page, filled: Filled, scheme: str, width: int) -> list[str]:
    """Check what opens over a page, and what only strangers see."""
    found = []
    if width == 390:
        # Notes are in the margin on wider screens.
        page.get_by_role("button", name="Citation 1").first.click()
        expect(page.get_by_role("dialog", name="Citation 1")).to_be_visible()
        found += faults(page)
    page.goto(f"/t/{filled.team.slug}/team")
    page.get_by_label("E-mail").fill(f"invited-{scheme}-{width}@skerrow.example")
    page.get_by_label("Name", exact=True).fill("Invited")
    page.get_by_role("button", name="Invite").click()
    invitation = page.get_by_role("status").first.locator("code").inner_text()
    found += faults(page)
    browser = page.context.browser
    assert browser is not None
    stranger = browser.new_context(
        viewport={"width": width, "height": 800},
        color_scheme=scheme,  # type: ignore[arg-type]
        reduced_motion="reduce",
    ).new_page()
    stranger.goto(invitation)
    expect(stranger.get_by_label("Choose a password")).to_be_visible()
    found += faults(stranger)
    stranger.goto(filled.link)
    ask(stranger, "At what gust does the quay crane stop?", 1)
    if width == 390:
        stranger.get_by_role("button", name="Citation 1").first.click()
        stranger.get_by_role("button", name="Open it in the document").click()
    else:
        stranger.locator("[data-note]").first.click()
    expect(stranger.locator("dialog mark")).to_be_visible()
    found += faults(stranger)
    stranger.context.close()
    return found
