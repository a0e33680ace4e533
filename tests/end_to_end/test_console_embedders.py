"""Embedders in headless Chromium: registered, chosen for an edition and a knowledge base."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from fontanel import schemas as s
from tests.conftest import STORM, Service, new_team
from tests.end_to_end.conftest import sign_in


def test_an_embedder_is_registered_by_an_operator(
    page: Page, service: Service, embedding_server: str
) -> None:
    page.goto("/")
    page.get_by_label("E-mail").fill("operator@localhost")
    page.get_by_label("Password").fill(service.password)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("button", name="Sign out")).to_be_visible()
    page.goto("/models")
    section = page.get_by_label("Embedders", exact=True)
    form = page.get_by_role("form", name="Register an embedder")
    form.get_by_label("Name that editions use").fill("console-equal")
    form.get_by_label("Address").fill(embedding_server)
    form.get_by_label("Embedder's name at the server").fill("equal")
    form.get_by_role("button", name="Register").click()
    expect(section.get_by_role("alert")).to_contain_text("no nearer to the texts that answer them")
    form.get_by_label("Name that editions use").fill("console-words")
    form.get_by_label("Embedder's name at the server").fill("words")
    form.get_by_label("Price per million tokens").fill("0.5")
    form.get_by_role("button", name="Register").click()
    row = section.get_by_role("listitem").filter(has_text="console-words")
    expect(row).to_contain_text("256 dimensions")
    row.get_by_role("button", name="Check").click()
    expect(row).to_contain_text("It gave vectors after")
    row.get_by_role("button", name="Switch off").click()
    expect(row).to_contain_text("switched off")
    page.once("dialog", lambda dialog: dialog.accept())
    row.get_by_role("button", name="Remove").click()
    expect(row).to_have_count(0)


def test_an_edition_and_a_knowledge_base_choose_theirs(
    page: Page, service: Service, embedding_server: str
) -> None:
    team = new_team(service)
    team.client.create_kb("Rules")
    team.client.add_document("rules", STORM, "storm-plan.md", wait=True)
    name = f"words of {team.slug}"
    with service.operator() as operator:
        operator.register_embedder(
            s.EmbedderIn(
                name=name, url=embedding_server, remote="words", price=2.0, teams=[team.slug]
            )
        )
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/rules/settings")
    editions = page.get_by_label("Editions")
    editions.get_by_label("Embedder").select_option(label=f"{name}, 2 EUR a million tokens")
    expect(editions.get_by_role("status")).to_contain_text("tokens, less than 0.01 EUR")
    editions.get_by_role("button", name="Build an edition").click()
    row = editions.get_by_role("row").filter(has_text=name)
    row.get_by_role("button", name="Switch").click()
    expect(row).to_contain_text("active")
    assert team.client.show_kb("rules").embedder == name
    page.goto(f"/t/{team.slug}/kbs")
    page.get_by_role("button", name="Create a knowledge base").click()
    page.get_by_label("Name").fill("Other vectors")
    page.get_by_text("How documents are split and embedded").click()
    page.get_by_label("Embedder").select_option(name)
    page.get_by_role("button", name="Create").click()
    expect(page.get_by_role("heading", name="Other vectors")).to_be_visible()
    assert team.client.show_kb("other-vectors").embedder == name


def test_a_build_pauses_at_its_budget_and_is_resumed(
    page: Page, service: Service, embedding_server: str
) -> None:
    team = new_team(service)
    team.client.create_kb("Rules")
    for number in range(4):
        words = " ".join(f"word{number}x{word}" for word in range(500))
        team.client.write_document("rules", f"rules-{number}.md", f"# Rules {number}\n\n{words}\n")
        team.client.wait_for_document("rules", f"rules-{number}.md")
    name = f"budget of {team.slug}"
    with service.operator() as operator:
        operator.register_embedder(
            s.EmbedderIn(
                name=name, url=embedding_server, remote="words", price=1000, teams=[team.slug]
            )
        )
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/kbs/rules/settings")
    editions = page.get_by_label("Editions")
    editions.get_by_label("Embedder").select_option(label=f"{name}, 1000 EUR a million tokens")
    editions.get_by_label("Pause at a cost of").fill("1")
    editions.get_by_role("button", name="Build an edition").click()
    row = editions.get_by_role("row").filter(has_text=name)
    expect(row).to_contain_text("Paused, budget used up")
    expect(row).to_contain_text("of 1.00 EUR")
    expect(row.get_by_role("button", name="Resume")).to_be_disabled()
    row.get_by_label("New budget of edition 2").fill("1000")
    row.get_by_role("button", name="Resume").click()
    expect(row).to_contain_text("ready")
    expect(row).to_contain_text("of 1000.00 EUR")
