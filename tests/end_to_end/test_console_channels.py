"""A desk's channels in headless Chromium, with the simulated chat room's page."""

from __future__ import annotations

import pytest
from playwright.sync_api import BrowserContext, Page, expect

from fontanel.simulators.chat import chat_app
from tests.channels.conftest import QUESTION, open_desk, reaching
from tests.conftest import Service, TeamSetup, free_port, new_team
from tests.end_to_end.conftest import sign_in
from tests.servers import served_on

__all__ = ["reaching"]
SECRET = "a secret of the chat room"


@pytest.fixture
def team(reaching: Service) -> TeamSetup:
    team = new_team(reaching)
    open_desk(team)
    return team


@pytest.fixture
def service(reaching: Service) -> Service:
    return reaching


def test_a_channel_is_added_used_and_tested(
    page: Page, context: BrowserContext, team: TeamSetup
) -> None:
    port = free_port()
    sign_in(page, team)
    page.goto(f"/t/{team.slug}/desks/harbour-desk/channels")
    page.get_by_role("button", name="Add a channel").click()
    page.get_by_role("button", name="Signed webhook").click()
    page.get_by_label("Name", exact=True).fill("Bridge")
    page.get_by_label("Reply address").fill("not an address")
    page.get_by_label("Secret of signatures").fill(SECRET)
    page.get_by_role("button", name="Add channel").click()
    expect(page.get_by_text("is not an address")).to_be_visible()
    page.get_by_label("Reply address").fill(f"http://127.0.0.1:{port}/replies")
    page.get_by_role("button", name="Add channel").click()
    page.get_by_role("link", name="Bridge").click()
    expect(page.get_by_text("not used yet")).to_be_visible()
    (channel,) = team.client.list_channels()

    with served_on(chat_app(SECRET, channel.address or ""), port):
        room = context.new_page()
        room.goto(f"http://127.0.0.1:{port}/")
        room.get_by_label("Message").fill(QUESTION)
        room.get_by_role("button", name="Send").click()
        expect(room.get_by_text("38 knots").first).to_be_visible()
        expect(room.get_by_role("link", name="[1] Storm plan")).to_be_visible()
        page.get_by_label("Room or address").fill("deck")
        page.get_by_role("button", name="Send", exact=True).click()
        expect(page.get_by_text("The message was sent.")).to_be_visible()
        expect(room.get_by_text("This is a test message.")).to_be_visible()
        page.reload()
        expect(page.get_by_text("works", exact=True)).to_be_visible()
        page.get_by_text("Reply with 1 source").click()
        expect(page.get_by_text("38 knots").first).to_be_visible()
        page.get_by_role("link", name="Record of the answer").click()
        expect(page.get_by_text(QUESTION).first).to_be_visible()

    # The other side is gone: the next test fails, and is sent again by hand later.
    page.goto(f"/t/{team.slug}/desks/harbour-desk/channels/{channel.id}")
    page.get_by_role("button", name="Pause").click()
    expect(page.get_by_text("paused", exact=True)).to_be_visible()
    page.on("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="Delete").click()
    expect(page.get_by_text("No channels yet.")).to_be_visible()
