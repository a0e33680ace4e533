"""Recordings in the console: a transcriber is registered and chosen, and citations are played."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect

from fontanel.simulators.ears import WORDS, ears_app
from tests.conftest import Service, TeamSetup, free_port
from tests.core.recordings import recording
from tests.end_to_end.conftest import sign_in
from tests.servers import served_on

SAID = list((WORDS * 2)[:60])


@pytest.fixture(scope="module")
def ears() -> Iterator[str]:
    with served_on(ears_app(), free_port()) as url:
        yield url


def test_a_recording_is_transcribed_and_played_from_the_cited_second(
    page: Page, browser: Browser, service: Service, team: TeamSetup, kb: str, ears: str
) -> None:
    added = team.client.add_document(kb, recording(SAID, "mp3"), "notice.mp3", wait=True)
    with browser.new_context(base_url=service.url) as context:
        _register(context.new_page(), service, ears)
    sign_in(page, team)
    address = f"/t/{team.slug}/kbs/{kb}"
    page.goto(f"{address}/documents/{added.document.id}")
    expect(page.get_by_text("needs a transcript")).to_be_visible()
    expect(page.get_by_text("It has no subtitles. Choose a transcriber")).to_be_visible()
    page.goto(f"{address}/settings")
    page.get_by_label("Recordings without subtitles").select_option("the transcriber console-ears")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Saved.")).to_be_visible()
    team.client.wait_for_document(kb, "notice.mp3")
    text = team.client.document_text(kb, "notice.mp3")
    last = text.blocks[-1]
    assert last.seconds is not None
    assert last.seconds > 30
    page.goto(f"{address}/documents/{added.document.id}?from={last.start}&to={last.end}")
    player = page.locator("audio")
    expect(player).to_have_js_property("currentTime", last.seconds)
    page.get_by_role("button", name="Play from 0:00").click()
    page.wait_for_function("document.querySelector('audio').currentTime < 30")


def _register(page: Page, service: Service, ears: str) -> None:
    page.goto("/")
    page.get_by_label("E-mail").fill("operator@localhost")
    page.get_by_label("Password").fill(service.password)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("button", name="Sign out")).to_be_visible()
    page.goto("/models")
    form = page.get_by_role("form", name="Register a transcriber")
    form.get_by_label("Name that knowledge bases use").fill("console-ears")
    form.get_by_label("Address").fill(ears)
    form.get_by_label("Transcriber's name at the server").fill("text")
    form.get_by_role("button", name="Register").click()
    section = page.get_by_label("Transcribers", exact=True)
    expect(section.get_by_role("alert")).to_contain_text("gives no times")
    form.get_by_label("Transcriber's name at the server").fill("tones")
    form.get_by_role("button", name="Register").click()
    row = section.get_by_role("listitem").filter(has_text="console-ears")
    row.get_by_role("button", name="Check").click()
    expect(row).to_contain_text("It transcribed a second of sound")
