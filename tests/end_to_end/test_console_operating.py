"""The operators' pages of the console: quotas, the audit log, backups."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from fontanel.schemas import QuotasIn
from tests.conftest import Service, TeamSetup, join
from tests.end_to_end.conftest import sign_in


@pytest.fixture
def operator_page(page: Page, service: Service) -> Iterator[Page]:
    """The page of all teams, as the operator sees it; default quotas are reset at the end."""
    page.goto("/sign-in")
    page.get_by_label("E-mail").fill("operator@localhost")
    page.get_by_label("Password").fill(service.password)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("button", name="Sign in")).to_have_count(0)
    page.goto("/teams")
    yield page
    with service.operator() as operator:
        operator.set_default_quotas(QuotasIn())


def test_an_operator_sets_quotas_and_the_team_sees_them(
    operator_page: Page, team: TeamSetup, storm: str
) -> None:
    page = operator_page
    page.get_by_role("link", name="Quotas").click()
    page.get_by_role("button", name="Change the defaults").click()
    page.get_by_label("Questions a month").fill("many")
    page.get_by_role("button", name="Save quotas").click()
    expect(page.get_by_text('enter a whole number, or "none" for no limit')).to_be_visible()
    page.get_by_label("Questions a month").fill("5000")
    page.get_by_role("button", name="Save quotas").click()
    expect(page.get_by_label("Default quotas")).to_contain_text("Questions a month: 5,000")

    # Names of other teams may begin in the same way.
    row = page.get_by_role("row").filter(has=page.get_by_text(team.name, exact=True))
    row.get_by_role("button", name="Change").click()
    page.get_by_label("Documents").fill("1")
    page.get_by_role("button", name="Save quotas").click()
    expect(row).to_contain_text("1 of 1")
    expect(row).to_contain_text("used up")
    expect(row).to_contain_text("has its own")

    page.context.clear_cookies()
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/usage")
    quotas = page.get_by_label("Quotas", exact=True)
    expect(quotas).to_contain_text("1 of 1")
    expect(quotas).to_contain_text("0 of 5,000")
    # A refused upload says why.
    page.goto(f"/t/{team.slug}/kbs/{storm}/documents")
    page.locator("input[type=file]").first.set_input_files(
        {"name": "more.md", "mimeType": "text/markdown", "buffer": b"# More\n\nMore text.\n"}
    )
    expect(page.get_by_text("The team's quota of 1 documents is used up").first).to_be_visible()


def test_an_operator_sees_the_audit_log_and_that_backups_have_no_place(
    operator_page: Page, team: TeamSetup
) -> None:
    page = operator_page
    team.client.create_kb("Recorded")
    page.get_by_role("link", name="Audit log").click()
    expect(page.get_by_text("session.sign-in").first).to_be_visible()
    page.goto("/backups")
    expect(page.get_by_text("No place for backups is set.")).to_be_visible()
    expect(page.get_by_role("button", name="Back up now")).to_be_disabled()


def test_an_operator_erases_a_person_after_being_asked(
    operator_page: Page, team: TeamSetup
) -> None:
    page = operator_page
    email = "leaving@skerrow.example"
    join(team.service, team.client, email, "Leaving Person", "reader")
    page.get_by_label("E-mail address").fill(email)
    page.get_by_role("button", name="Erase", exact=True).click()
    expect(page.get_by_text("This cannot be undone.")).to_be_visible()
    page.get_by_role("button", name=f"Erase {email}").click()
    expect(page.get_by_role("status").filter(has_text="Erased")).to_contain_text("account: 1")
    assert email not in [member.email for member in team.client.list_members()]
