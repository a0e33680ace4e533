"""Headless Chromium on the console of a real service."""

from __future__ import annotations

import shutil
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from tests.conftest import Service, TeamSetup

# A busy machine may take its time.
expect.set_options(timeout=20_000)

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
        found = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        yield found
        found.close()


@pytest.fixture
def context(browser: Browser, service: Service) -> Iterator[BrowserContext]:
    found = browser.new_context(base_url=service.url, viewport={"width": 1280, "height": 800})
    found.set_default_timeout(20_000)
    yield found
    found.close()


@pytest.fixture
def page(context: BrowserContext) -> Iterator[Page]:
    """A page that fails its test when a script fails on it."""
    found = context.new_page()
    errors: list[str] = []
    found.on("pageerror", lambda error: errors.append(str(error)))
    yield found
    assert errors == []


def sign_in(page: Page, team: TeamSetup) -> None:
    page.goto("/sign-in")
    page.get_by_label("E-mail").fill(team.email)
    page.get_by_label("Password").fill(team.password)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/kbs")
