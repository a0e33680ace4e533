"""Pictures in the console: a model is chosen with its cost in view, and citations show them."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from fontanel import schemas as s
from fontanel.simulators.eyes import eyes_app
from tests.conftest import Service, TeamSetup, free_port, until
from tests.core.reading.test_pictures import word_document
from tests.end_to_end.conftest import sign_in
from tests.servers import served_on


def test_a_model_is_chosen_and_its_words_are_shown_with_the_picture(
    page: Page, service: Service, team: TeamSetup, kb: str
) -> None:
    client = team.client
    client.add_document(kb, word_document("red", "blue"), "crane.docx", wait=True)
    with served_on(eyes_app(), free_port()) as url:
        with service.operator() as operator:
            model = s.ModelIn(name="console-eyes", url=url, remote="colours", price_read=100)
            operator.create_model(model)
        sign_in(page, team)
        page.goto(f"/t/{team.slug}/kbs/{kb}/settings")
        page.get_by_label("Pictures").first.select_option("the model console-eyes")
        expect(page.get_by_text("2 pictures in 1 documents are not described yet")).to_be_visible()
        page.get_by_label("Pictures of each document, at most").fill("5")
        page.get_by_role("button", name="Save").click()
        expect(page.get_by_text("Saved.")).to_be_visible()
        until(lambda: "described_by" in _text(team, kb))
    expect(page.get_by_text("2 by console-eyes")).to_be_visible()
    answer = client.ask(kb, "Which picture has blue on it?")
    (cited,) = [one for one in answer.citations if "blue on" in one.quote]
    page.goto(
        f"/t/{team.slug}/kbs/{kb}/documents/{cited.document_id}?from={cited.start}&to={cited.end}"
    )
    figure = page.get_by_role("figure").filter(has_text="blue on")
    expect(figure).to_contain_text("described by console-eyes")
    expect(figure.locator("mark")).to_be_visible()
    shown = figure.get_by_role("img", name=re.compile("A wide picture: blue"))
    shown.scroll_into_view_if_needed()
    page.wait_for_function(
        "[...document.querySelectorAll('figure img')].every(one => one.naturalWidth === 320)"
    )


def _text(team: TeamSetup, kb: str) -> str:
    blocks = team.client.document_text(kb, "crane.docx").blocks
    return " ".join("described_by" for block in blocks if block.described_by)
