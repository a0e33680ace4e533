"""The chat as a panel on a page of another origin, with a strict policy, in headless Chromium."""

from __future__ import annotations

import http.server
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import jwt
import pytest
from playwright.sync_api import Frame, Page, expect

from fontanel import schemas as s
from tests import patient
from tests.conftest import STORM, Service, TeamSetup, new_team, until

QUESTION = "At what gust does the quay crane stop?"
#: The page has styles that would ruin the panel, if they reached it.
_PAGE = """<!doctype html><html lang="en"><title>Intranet</title>
<link rel="stylesheet" href="/style.css"><h1>Intranet of the trust</h1>
<p>Notices of today.</p><script src="{script}" data-link="{link}" {more} defer></script></html>"""
_STYLE = """* { display: none !important; color: red !important }
html, body, h1, p { display: block !important }"""


@contextmanager
def intranet(service: Service) -> Iterator[tuple[str, dict[str, str]]]:
    """Serve a page at another origin; yield the origin, and what is put into the page."""
    parts: dict[str, str] = {"script": "", "link": "", "more": ""}
    policy = (
        f"default-src 'none'; script-src {service.url}; frame-src {service.url};"
        " style-src 'self'; base-uri 'none'"
    )

    class Handler(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            style = self.path == "/style.css"
            body = _STYLE if style else _PAGE.format(**parts)
            self.send_response(200)
            self.send_header("Content-Type", "text/css" if style else "text/html; charset=utf-8")
            self.send_header("Content-Security-Policy", policy)
            self.end_headers()
            self.wfile.write(body.encode())

        def log_message(self, *_: Any) -> None:
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    # Another host than the service's, so that it is another site too.
    yield f"http://localhost:{server.server_port}", parts
    server.shutdown()


def embed(team: TeamSetup, origin: str, parts: dict[str, str], **settings: Any) -> str:
    """Publish a desk that the site may show, and put it into the page; return the desk's id."""
    kb = team.client.create_kb("Rules").slug
    team.client.add_document(kb, STORM, "storm.md", wait=True)
    values = {
        "kbs": [s.DeskKb(kb=kb)],
        "audience": "link",
        "frame_origins": [origin],
        "colour": "moss",
        **settings,
    }
    desk = team.client.create_desk("Harbour desk", s.DeskSettings.model_validate(values))
    assert patient.get(f"{team.service.url}/embed/{desk.id}.js").status_code == 404
    team.client.publish_desk(desk.id)
    parts["script"] = f"{team.service.url}/embed/{desk.id}.js"
    parts["link"] = team.client.make_desk_link(desk.id, "Intranet").secret
    return desk.id


@pytest.fixture
def team(service: Service) -> TeamSetup:
    return new_team(service)


def problems_of(page: Page) -> list[str]:
    """Collect what the browser complains about: scripts, and violations of the policy."""
    problems: list[str] = []
    page.on("console", lambda line: problems.append(line.text) if line.type == "error" else None)
    return problems


def opened(page: Page, act: Callable[[], object]) -> Frame:
    """Open the panel; return the frame in it, whose shadow root is closed to the page."""
    with page.expect_event("framenavigated", lambda frame: "/chat/" in frame.url) as shown:
        act()
    frame: Frame = shown.value
    return frame


def test_a_panel_on_another_site(page: Page, team: TeamSetup) -> None:
    with intranet(team.service) as (origin, parts):
        embed(team, origin, parts)
        page.goto(f"{origin}/style.css")
        before = set(page.evaluate("Object.keys(window)"))
        problems = problems_of(page)
        page.goto(origin)
        panel = page.locator("fontanel-chat")
        is_open = page.locator("fontanel-chat[open]")
        expect(panel).to_be_visible()
        page.keyboard.press("Tab")
        chat = opened(page, lambda: page.keyboard.press("Enter"))
        expect(is_open).to_have_count(1)
        question = chat.get_by_label("Question")
        question.fill(QUESTION)
        question.press("Enter")
        expect(chat.get_by_text("38 knots").first).to_be_visible()
        chat.get_by_role("button", name="Conversations").click()
        expect(chat.get_by_text(QUESTION).first).to_be_visible()

        question.press("Escape")
        expect(is_open).to_have_count(0)
        expect(panel).to_be_focused()
        page.keyboard.press("Enter")
        expect(is_open).to_have_count(1)
        expect(chat.get_by_text("38 knots").first).to_be_visible()
        assert page.evaluate("document.activeElement.localName") == "fontanel-chat"

        # Nothing leaks: no global names, no way into the shadow root, styles stay apart.
        added = set(page.evaluate("Object.keys(window)")) - before
        assert added <= {"0"}
        assert page.evaluate("document.querySelector('fontanel-chat').shadowRoot") is None
        heading = page.evaluate("getComputedStyle(document.querySelector('h1')).color")
        assert heading == "rgb(255, 0, 0)"
        assert chat.evaluate("getComputedStyle(document.body).color") != heading
        assert page.evaluate("document.styleSheets.length") == 1
        assert problems == []


def test_only_sites_that_the_desk_names(page: Page, team: TeamSetup) -> None:
    with intranet(team.service) as (origin, parts):
        embed(team, "https://intranet.skerrow.example", parts)
        page.goto(origin)
        with page.expect_console_message(lambda line: "frame-ancestors" in line.text):
            page.locator("fontanel-chat").click()


def test_visitors_that_the_site_signs(page: Page, team: TeamSetup) -> None:
    with intranet(team.service) as (origin, parts):
        desk = embed(team, origin, parts, signed_visitors=True)
        key = team.client.make_visitor_key(desk).key

        def token(seconds: int) -> str:
            now = int(time.time())
            claims = {"sub": "mate", "aud": desk, "iat": now - 600, "exp": now + seconds}
            return jwt.encode(claims, key, algorithm="HS256")

        parts["more"] = f'data-visitor="{token(-300)}" data-theme="dark" data-side="left"'
        page.goto(origin)
        page.evaluate(
            """() => { window.expired = 0; document.querySelector('fontanel-chat')
                .addEventListener('visitorexpired', () => window.expired++) }"""
        )
        chat = opened(page, page.locator("fontanel-chat").click)
        expect(chat.get_by_text("The token has expired")).to_be_visible()
        until(lambda: page.evaluate("window.expired"))
        page.evaluate(
            "token => { document.querySelector('fontanel-chat').visitor = token }", token(600)
        )
        question = chat.get_by_label("Question")
        question.fill(QUESTION)
        question.press("Enter")
        expect(chat.get_by_text("38 knots").first).to_be_visible()
        assert chat.locator("html").get_attribute("data-theme") == "night"
