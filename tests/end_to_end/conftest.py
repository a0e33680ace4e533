"""Headless Chromium on the console of a real service."""

from __future__ import annotations

import shutil
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from tests.conftest import Service, TeamSetup

# A busy machine may take its time.
expect.set_options(timeout=60_000)

FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        result = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        yield result
        result.close()


@pytest.fixture
def context(browser: Browser, service: Service) -> Iterator[BrowserContext]:
    result = browser.new_context(base_url=service.url, viewport={"width": 1280, "height": 800})
    result.set_default_timeout(60_000)
    yield result
    result.close()


@pytest.fixture
def page(context: BrowserContext) -> Iterator[Page]:
    """A page that fails its test when a script fails on it."""
    result = context.new_page()
    errors: list[str] = []
    result.on("pageerror", lambda error: errors.append(str(error)))
    yield result
    assert errors == []


def sign_in(page: Page, team: TeamSetup) -> None:
    page.goto("/sign-in")
    page.get_by_label("E-mail").fill(team.email)
    page.get_by_label("Password").fill(team.password)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/kbs")


def ask(page: Page, question: str, number: int) -> None:
    page.get_by_label("Question").fill(question)
    page.get_by_role("button", name="Ask", exact=True).click()
    expect(page.locator("[data-outcome]")).to_have_count(number)
    expect(page.locator("[data-outcome]").last).not_to_have_attribute("data-outcome", "coming")
