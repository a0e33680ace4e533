"""Pictures: described once by a model that sees, searched, cited, and shown."""

from __future__ import annotations

import io
import sqlite3
from collections.abc import Iterator
from functools import partial
from itertools import count
from pathlib import Path

import pytest
from PIL import Image

from fontanel import schemas as s
from fontanel.client import Client, Invalid, NotFound
from fontanel.simulators.eyes import eyes_app
from tests.conftest import Service, TeamSetup, free_port, new_team, until
from tests.core.reading.test_pictures import page, pdf, picture, slides, word_document
from tests.servers import served_on

_numbers = count(1)


@pytest.fixture(scope="module")
def eyes() -> Iterator[str]:
    with served_on(eyes_app(), free_port()) as url:
        yield url


@pytest.fixture
def operator(service: Service) -> Iterator[Client]:
    with service.operator() as client:
        yield client


def seeing(operator: Client, url: str, remote: str = "colours", **more: object) -> str:
    """Set up a model of its own name; return the name."""
    name = f"eyes-{next(_numbers)}"
    fields = {"name": name, "url": url, "remote": remote, "tries": 1, **more}
    return operator.create_model(s.ModelIn.model_validate(fields)).name


def viewed(team: TeamSetup, kb: str) -> s.ViewingOut:
    """Wait until all pictures are settled; return how that went."""
    until(lambda: _settled(team.client, kb))
    found = team.client.show_kb(kb).viewing
    assert found is not None
    return found


def _settled(client: Client, kb: str) -> bool:
    found = client.show_kb(kb).viewing
    waits = found is not None and found.waiting > 0
    return not waits and all(one.state == "indexed" for one in client.list_documents(kb))


def described(client: Client, kb: str, name: str) -> list[str]:
    """Return the descriptions in a document's text."""
    text = client.document_text(kb, name)
    return [text.text[b.start : b.end] for b in text.blocks if b.described_by is not None]


@pytest.mark.parametrize(
    ("name", "make"),
    [
        ("crane.pdf", pdf),
        ("crane.docx", word_document),
        ("crane.pptx", slides),
        ("crane.html", page),
    ],
)
def test_figures_are_described_searched_cited_and_shown(
    operator: Client, eyes: str, team: TeamSetup, name: str, make: partial[bytes]
) -> None:
    client = team.client
    kb = client.create_kb("Cranes").slug
    client.add_document(kb, make("red", "blue"), name, wait=True)
    assert described(client, kb, name) == []
    model = seeing(operator, eyes, price_read=2.0)
    estimate = client.estimate_pictures(kb, model)
    assert (estimate.pictures, estimate.documents) == (2, 1)
    client.change_kb(kb, viewer=model)
    until(lambda: len(described(client, kb, name)) == 2)
    assert described(client, kb, name)[0] == "A wide picture: red on 100 percent of it."
    answer = client.ask(kb, "Which wide picture has blue on it?")
    (cited,) = [one for one in answer.citations if "blue on" in one.quote]
    assert cited.locator.described_by == model
    assert cited.locator.picture is not None
    shown = client.document_picture(kb, name, cited.locator.picture)
    with Image.open(io.BytesIO(shown)) as image:
        assert image.format == "JPEG"
    viewing = viewed(team, kb)
    assert (viewing.described, viewing.waiting, viewing.failed) == (2, 0, 0)
    used = client.usage("model").total
    assert used.cost == pytest.approx(estimate.cost, rel=0.1)
    # Without the model, its words go.
    client.change_kb(kb, viewer="built-in")
    until(lambda: described(client, kb, name) == [])
    with pytest.raises(NotFound):
        client.document_picture(kb, name, "0" * 64)


def test_a_photograph_without_text_waits_for_its_description(
    operator: Client, eyes: str, team: TeamSetup
) -> None:
    client = team.client
    kb = client.create_kb("Yard").slug
    failed = client.add_document(kb, picture("green"), "yard.png", wait=True).document
    assert (failed.state, failed.error_code) == ("failed", "no_text")
    assert "A model can describe them" in str(failed.error)
    model = seeing(operator, eyes)
    client.change_kb(kb, viewer=model)
    until(lambda: client.show_document(kb, "yard.png").state == "indexed")
    assert (
        client.document_text(kb, "yard.png").text == "A wide picture: green on 100 percent of it."
    )
    again = client.add_document(kb, picture("green", 321), "other.png", wait=True).document
    assert again.state == "indexed"
    assert client.search(kb, "green picture").hits
    # What is described already is known elsewhere in the team.
    other = client.create_kb("Second yard", viewer=model).slug
    known = client.add_document(other, picture("green"), "yard.png", wait=True).document
    assert known.state == "indexed"


def test_a_picture_is_described_once_for_a_team(
    operator: Client, eyes: str, team: TeamSetup
) -> None:
    client = team.client
    model = seeing(operator, eyes, price_read=2.0)
    first, second = (client.create_kb(name, viewer=model).slug for name in ("One", "Two"))
    client.add_document(first, word_document("red", "blue"), "one.docx", wait=True)
    viewed(team, first)
    until(lambda: len(described(client, first, "one.docx")) == 2)
    cost = client.usage("model").total.cost
    assert cost > 0
    client.add_document(second, slides("blue", "red"), "two.pptx", wait=True)
    until(lambda: len(described(client, second, "two.pptx")) == 2)
    assert client.usage("model").total.cost == pytest.approx(cost)


def test_only_so_many_pictures_of_a_document_are_described(
    operator: Client, eyes: str, team: TeamSetup
) -> None:
    client = team.client
    model = seeing(operator, eyes)
    kb = client.create_kb("Cranes", viewer=model, max_pictures=1).slug
    client.add_document(kb, word_document("red", "blue", "green"), "one.docx", wait=True)
    until(lambda: described(client, kb, "one.docx") != [])
    assert described(client, kb, "one.docx") == ["A wide picture: red on 100 percent of it."]
    client.change_kb(kb, max_pictures=2)
    until(lambda: len(described(client, kb, "one.docx")) == 2)
    assert viewed(team, kb).described == 2


def test_what_no_model_describes_is_indexed_all_the_same(
    operator: Client, eyes: str, team: TeamSetup
) -> None:
    client = team.client
    model = seeing(operator, eyes, "malformed")
    kb = client.create_kb("Cranes", viewer=model).slug
    client.add_document(kb, word_document("red"), "one.docx", wait=True)
    found = viewed(team, kb)
    assert (found.described, found.failed) == (0, 1)
    assert "wrote no description" in str(found.error)
    assert client.search(kb, "before the red one").hits
    with pytest.raises(Invalid, match="there is no model"):
        client.change_kb(kb, viewer="nobody")


def test_a_model_that_does_not_see_is_asked_again_later(
    operator: Client, eyes: str, team: TeamSetup
) -> None:
    client = team.client
    model = seeing(operator, eyes, "blind")
    kb = client.create_kb("Yard", viewer=model).slug
    client.add_document(kb, picture("orange"), "yard.png")
    until(lambda: client.show_document(kb, "yard.png").error is not None)
    waiting = client.show_document(kb, "yard.png")
    assert (waiting.state, waiting.error_code) == ("failed", "needs_description")
    assert "is asked again later" in str(waiting.error)
    assert "does not take pictures" in str(waiting.error)
    client.change_kb(kb, viewer=seeing(operator, eyes))
    until(lambda: client.show_document(kb, "yard.png").state == "indexed")
    client.change_kb(kb, viewer="built-in")
    until(lambda: client.show_document(kb, "yard.png").state == "failed")


@pytest.mark.slow
def test_a_killed_service_describes_nothing_twice(tmp_path: Path) -> None:
    own = Service(tmp_path / "data").start()
    colours = ("red", "blue", "green", "yellow", "purple")
    try:
        with served_on(eyes_app(pause=0.3), free_port()) as url:
            with own.operator() as operator:
                model = seeing(operator, url, "slow")
            team = new_team(own)
            kb = team.client.create_kb("Cranes", viewer=model).slug
            team.client.add_document(kb, word_document(*colours), "one.docx")
            for number in (1, 3):
                until(partial(_has_viewed, own, number))
                own.kill()
                own.start()
            until(lambda: len(described(team.client, kb, "one.docx")) == len(colours))
            assert _views(own) == len(colours)
    finally:
        own.stop()


def _views(service: Service) -> int:
    with sqlite3.connect(service.data / "fontanel.db") as records:
        query = "select count(*) from uses where outcome = 'viewed'"
        (uses,) = records.execute(query).fetchone()
    return int(uses)


def _has_viewed(service: Service, number: int) -> bool:
    return _views(service) >= number
