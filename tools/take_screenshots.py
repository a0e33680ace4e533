"""Take the pictures in docs/screenshots, of a running demo: look at each afterwards.

    make demo &
    .venv/bin/python tools/take_screenshots.py [--url http://127.0.0.1:8460] [name ...]

The picture of the command line needs Xvfb, xterm and ImageMagick.
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from playwright.sync_api import Browser, BrowserContext, Page, sync_playwright

ROOT = Path(__file__).parents[1]
OUT = ROOT / "docs" / "screenshots"
NOTES = ROOT / "var" / "demo" / "demo.json"
DEMO = ROOT / "demo" / "documents"
SIZE = {"width": 1280, "height": 800}
TEAM = "/t/marine-operations"
KB = f"{TEAM}/kbs/harbour-rules"

#: The page that the panel is shown on.
_INTRANET = """<style>body { font: 17px/1.6 Georgia, serif; margin: 4rem 6rem }</style>
<h1>Skerrow Harbour Trust</h1><p>Intranet. Good morning.</p><h2>Notices of today</h2>
<ul><li>The canteen opens at six.</li><li>Crane 2 is out of service until noon.</li>
<li>The lock is dredged on Thursday, from eight to eleven.</li></ul>"""

Take = Callable[[Page], None]
TAKES: dict[str, Take] = {}


def take(function: Take) -> Take:
    """Register a picture under the function's name."""
    TAKES[function.__name__.removesuffix("_")] = function
    return function


def ask(page: Page, question: str) -> None:
    """Ask on a page with a question box, and wait for the answer."""
    page.get_by_label("Question").fill(question)
    page.get_by_role("button", name="Ask", exact=True).click()
    page.locator("[data-outcome]:not([data-outcome=coming])").last.wait_for()
    page.wait_for_timeout(300)


@take
def documents(page: Page) -> None:
    page.goto(f"{KB}/documents")
    page.get_by_role("link", name="Storm plan").first.wait_for()


@take
def search(page: Page) -> None:
    page.goto(f"{KB}/search")
    page.get_by_label("Search", exact=True).fill("wind limit outer berth")
    page.get_by_label("Explain the scores").check()
    page.get_by_role("button", name="Search", exact=True).click()
    page.locator("article").first.wait_for()


@take
def ask_(page: Page) -> None:
    page.goto(f"{KB}/ask")
    ask(page, "What is the wind limit for leaving the outer berth?")


@take
def document(page: Page) -> None:
    page.goto(f"{KB}/ask")
    ask(page, "What is the wind limit for leaving the outer berth?")
    page.locator("[data-note]").first.click()
    page.locator("mark").first.wait_for()
    page.locator("img").first.wait_for()
    page.wait_for_function("[...document.images].every((image) => image.complete)")


@take
def phone(page: Page) -> None:
    page.set_viewport_size({"width": 390, "height": 800})
    page.goto(f"{KB}/ask")
    page.get_by_text("Menu").click()
    page.get_by_role("button", name="Dark").click()
    page.get_by_text("Close", exact=True).click()
    ask(page, "Who closes the port?")
    page.locator("[data-number]").first.click()
    page.get_by_role("dialog").wait_for()
    page.evaluate("localStorage.removeItem('theme')")


@take
def recording(page: Page) -> None:
    _cited(page, "Where do yachts fill their tanks?")
    page.locator("audio").wait_for()


def _cited(page: Page, question: str) -> None:
    """Ask the notices, and open the first citation."""
    page.goto(f"{TEAM}/kbs/notices-and-returns/ask")
    ask(page, question)
    page.locator("[data-note]").first.click()
    page.locator("mark").first.wait_for()


@take
def compare(page: Page) -> None:
    page.goto(f"{KB}/search")
    page.get_by_label("Search", exact=True).fill("when may a ship leave in a gale")
    page.get_by_label("Compare two settings").check()
    page.get_by_role("button", name="Search", exact=True).click()
    page.locator("article").nth(3).wait_for()


@take
def sources(page: Page) -> None:
    page.goto(f"{TEAM}/kbs/live-sources/sources")
    page.get_by_text("Crane manuals").first.wait_for()


@take
def trial(page: Page) -> None:
    page.goto(f"{TEAM}/trials")
    page.get_by_role("link", name="Written answers, version 1").first.click()
    page.get_by_label("Answers", exact=True).locator("li").first.wait_for()


@take
def desk(page: Page) -> None:
    page.goto(f"{TEAM}/desks/written-answers/build")
    page.get_by_label("Question to try").fill("At what gust is the quay crane pinned?")
    page.get_by_role("button", name="Try", exact=True).click()
    page.locator("[data-outcome=answered]").wait_for()


@take
def record(page: Page) -> None:
    desk(page)
    page.get_by_role("link", name="how this answer was made").click()
    page.get_by_role("heading").first.wait_for()
    page.wait_for_load_state("networkidle")


@take
def channel(page: Page) -> None:
    page.goto(f"{TEAM}/desks/harbour-desk/channels")
    page.get_by_role("link", name="Harbour chat").click()
    page.get_by_label("Room or address").fill("harbour")
    page.get_by_role("button", name="Send", exact=True).click()
    page.get_by_text("The message was sent.").wait_for()
    page.get_by_text("Reply with").first.click()


@take
def usage(page: Page) -> None:
    page.goto(f"{TEAM}/usage")
    page.get_by_label("Count").select_option("model")
    page.get_by_role("table").wait_for()
    page.wait_for_load_state("networkidle")


@take
def audit(page: Page) -> None:
    page.goto(f"{TEAM}/audit")
    page.get_by_role("button", name="Verify the log").click()
    page.get_by_text("the chain is whole").wait_for()
    page.get_by_label("Entries").get_by_role("button").nth(1).click()


def approved(browser: Browser, url: str, notes: dict[str, Any]) -> None:
    """The approved answers of the other team, one of which needs another look."""
    notes_of_team = notes["teams"][1]
    context = sign_in(browser, url, notes_of_team)
    page = context.new_page()
    page.goto(f"/t/{notes_of_team['team']}/kbs/{notes_of_team['kb']}/approved")
    page.get_by_label("Question to try").fill("Can anybody else collect what I have lost?")
    page.get_by_role("button", name="Match").click()
    page.get_by_label("Matches").wait_for()
    page.screenshot(path=OUT / "approved.png")
    context.close()


def quotas(browser: Browser, url: str, notes: dict[str, Any]) -> None:
    """The operator's page of quotas, while those of a team are changed."""
    context = browser.new_context(viewport=SIZE, base_url=url)  # type: ignore[arg-type]
    page = context.new_page()
    page.goto("/sign-in?next=/quotas")
    page.get_by_label("E-mail").fill("operator@localhost")
    page.get_by_label("Password").fill(notes["operator"])
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("button", name="Change", exact=True).nth(1).click()
    # Other sign-ins of the operator, such as with the command line, are announced.
    if (banner := page.get_by_role("button", name="Dismiss")).count():
        banner.click()
    page.screenshot(path=OUT / "quotas.png")
    context.close()


def chat(browser: Browser, url: str, notes: dict[str, Any]) -> None:
    """A guest's chat, in a browser that nobody is signed in with."""
    link = next(link for name, link in notes["links"] if name == "Harbour desk")
    page = browser.new_page(viewport=SIZE, base_url=url)  # type: ignore[arg-type]
    page.goto(url + link[link.index("/chat/") :])
    ask(page, "What is the wind limit for leaving the outer berth?")
    page.screenshot(path=OUT / "chat.png")
    page.close()


def embed(browser: Browser, url: str, notes: dict[str, Any]) -> None:
    """The Harbour desk as a panel on a made-up intranet."""
    link = next(link for name, link in notes["links"] if name == "Harbour desk")
    desk, _, secret = link[link.index("/chat/") + 6 :].partition("#")
    page = browser.new_page(viewport=SIZE)  # type: ignore[arg-type]
    tag = f'<script src="{url}/embed/{desk}.js" data-link="{secret}" defer></script>'
    html = f"<!doctype html><title>Intranet</title>{_INTRANET}{tag}"
    page.route(
        "https://intranet.skerrow.example/",
        lambda route: route.fulfill(body=html, content_type="text/html"),
    )
    page.goto("https://intranet.skerrow.example/")
    with page.expect_event("framenavigated", lambda frame: "/chat/" in frame.url) as shown:
        page.locator("fontanel-chat").click()
    chat = shown.value
    chat.get_by_label("Question").fill("Which channel does the lock keeper answer on?")
    chat.get_by_label("Question").press("Enter")
    chat.locator("[data-outcome]:not([data-outcome=coming])").last.wait_for()
    page.wait_for_timeout(500)
    page.screenshot(path=OUT / "embed.png")
    page.close()


def terminal(url: str) -> None:
    """A terminal window in which three commands ran."""
    commands = (
        "fontanel document list --name crane",
        'fontanel ask "At what gust does the quay crane stop?"',
        'fontanel search "wind limit outer berth" --limit 2',
    )
    script = "; ".join(f"printf '%s\\n' '$ {command}'; {command}; echo" for command in commands)
    environment = {
        **os.environ,
        "DISPLAY": ":97",
        "FONTANEL_URL": url,
        "FONTANEL_PROFILE": str(NOTES.parent / "marine-operations.toml"),
        "PATH": f"{ROOT / '.venv/bin'}:{os.environ['PATH']}",
    }
    display = subprocess.Popen(["Xvfb", ":97", "-screen", "0", "1280x800x24"])
    time.sleep(1)
    font = ["-fa", "DejaVu Sans Mono", "-fs", "11", "-geometry", "128x42"]
    shell = ["xterm", *font, "-e", "bash", "-c", f"{script}; sleep 60"]
    window = subprocess.Popen(shell, env=environment)
    time.sleep(12)
    picture = ["import", "-window", "root", "-trim", str(OUT / "terminal.png")]
    subprocess.run(picture, env=environment, check=True)
    window.kill()
    display.kill()


def sign_in(browser: Browser, url: str, team: dict[str, Any]) -> BrowserContext:
    """Sign in as the owner of a team."""
    context = browser.new_context(viewport=SIZE, base_url=url)  # type: ignore[arg-type]
    page = context.new_page()
    page.goto("/sign-in")
    page.get_by_label("E-mail").fill(team["email"])
    page.get_by_label("Password").fill(team["password"])
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Knowledge bases").wait_for()
    page.close()
    return context


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument(
        "names", nargs="*", default=[*TAKES, "chat", "embed", "approved", "terminal"]
    )
    parser.add_argument("--url", default="http://127.0.0.1:8460")
    options = parser.parse_args()
    notes = json.loads(NOTES.read_text())
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path="/usr/bin/chromium",
            # The made-up intranet may load from this machine.
            args=["--no-sandbox", "--disable-features=LocalNetworkAccessChecks"],
        )
        context = sign_in(browser, options.url, notes["teams"][0])
        for name in options.names:
            if name not in TAKES:
                continue
            page = context.new_page()
            page.set_default_timeout(15_000)
            try:
                TAKES[name](page)
                page.screenshot(path=OUT / f"{name}.png")
            except Exception as error:
                print(f"{name}: {error}")
            page.close()
        if "chat" in options.names:
            chat(browser, options.url, notes)
        if "embed" in options.names:
            embed(browser, options.url, notes)
        if "quotas" in options.names:
            quotas(browser, options.url, notes)
        if "approved" in options.names:
            approved(browser, options.url, notes)
        browser.close()
    if "terminal" in options.names:
        terminal(options.url)


if __name__ == "__main__":
    main()
