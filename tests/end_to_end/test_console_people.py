"""People in the console: sign-in, invitations, passwords, operators."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from tests.conftest import Service, TeamSetup, join, new_team
from tests.end_to_end.conftest import sign_in


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
