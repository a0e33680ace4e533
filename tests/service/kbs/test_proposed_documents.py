"""Documents that programs propose, and what editors decide about them."""

from __future__ import annotations

import pytest

from fontanel import schemas as s
from fontanel.client import Conflict, NotAllowed, NotFound, ProblemError
from fontanel.engine.documents.proposed import MAX_OPEN
from fontanel.facts import MAX_EDITABLE_BYTES
from tests.conftest import TeamSetup

NOTE = "# Fenders\n\nThe spare fenders are in shed 4.\n"
QUESTION = "Where are the spare fenders?"


@pytest.fixture
def open_kb(team: TeamSetup, kb: str) -> str:
    team.client.change_kb(kb, accepts_proposed_documents=True)
    return kb


def test_a_proposal_is_not_found_until_it_is_accepted(team: TeamSetup, open_kb: str) -> None:
    client = team.client
    proposed = client.propose_document(open_kb, "fenders.md", NOTE, "Said by the foreman.")
    assert (proposed.state, proposed.replaces, proposed.characters) == ("open", None, len(NOTE))
    assert client.show_kb(open_kb).proposed_documents == 1
    assert list(client.list_documents(open_kb)) == []
    assert client.ask(open_kb, QUESTION).outcome == "declined"
    assert client.show_proposed_document(open_kb, proposed.id).text == NOTE

    added = client.accept_proposed_document(open_kb, proposed.id)
    assert added.outcome == "added"
    client.wait_for_document(open_kb, added.document.id)
    assert "shed 4" in client.ask(open_kb, QUESTION).text
    (accepted,) = client.list_proposed_documents(open_kb, "accepted")
    assert (accepted.document_id, accepted.characters) == (added.document.id, 0)
    assert client.list_proposed_documents(open_kb) == []
    with pytest.raises(Conflict, match="was accepted by"):
        client.accept_proposed_document(open_kb, proposed.id)
    with pytest.raises(Conflict, match="was accepted by"):
        client.dismiss_proposed_document(open_kb, proposed.id)


def test_a_dismissed_proposal_is_kept_without_its_text(team: TeamSetup, open_kb: str) -> None:
    client = team.client
    proposed = client.propose_document(open_kb, "fenders.md", NOTE)
    dismissed = client.dismiss_proposed_document(open_kb, proposed.id, "They are in shed 5.")
    assert (dismissed.state, dismissed.note) == ("dismissed", "They are in shed 5.")
    assert client.show_proposed_document(open_kb, proposed.id).text == ""
    assert list(client.list_documents(open_kb)) == []


def test_the_same_proposal_twice_is_one(team: TeamSetup, open_kb: str) -> None:
    client = team.client
    first = client.propose_document(open_kb, "fenders.md", NOTE)
    assert client.propose_document(open_kb, "fenders.md", NOTE).id == first.id
    assert client.propose_document(open_kb, "fenders.md", NOTE + "More.").id != first.id
    # A decided one may be proposed again.
    client.dismiss_proposed_document(open_kb, first.id)
    assert client.propose_document(open_kb, "fenders.md", NOTE).id != first.id


def test_another_text_for_a_document_that_has_not_changed_since(
    team: TeamSetup, open_kb: str
) -> None:
    client = team.client
    client.write_document(open_kb, "fenders.md", NOTE)
    document = client.wait_for_document(open_kb, "fenders.md")
    better = NOTE.replace("shed 4", "shed 5")
    proposed = client.propose_document(open_kb, "fenders.md", better)
    late = client.propose_document(open_kb, "fenders.md", NOTE.replace("shed 4", "shed 6"))
    assert proposed.replaces == document.revision.id
    assert proposed.document_id == document.id
    shown = client.show_proposed_document(open_kb, proposed.id)
    (change,) = [one for one in shown.changes if one.kind != "same"]
    assert ("shed 4" in change.before[0], "shed 5" in change.after[0]) == (True, True)
    assert client.accept_proposed_document(open_kb, proposed.id).outcome == "revised"
    client.wait_for_document(open_kb, "fenders.md")
    assert client.written_text(open_kb, "fenders.md").text == better
    with pytest.raises(Conflict, match="has another text now"):
        client.accept_proposed_document(open_kb, late.id)
    client.delete_document(open_kb, "fenders.md")
    with pytest.raises(Conflict, match="was deleted"):
        client.accept_proposed_document(open_kb, late.id)


def test_a_document_that_was_added_after_the_proposal_is_not_replaced(
    team: TeamSetup, open_kb: str
) -> None:
    client = team.client
    proposed = client.propose_document(open_kb, "fenders.md", NOTE)
    client.write_document(open_kb, "fenders.md", "# Fenders\n\nAnother text.\n")
    with pytest.raises(Conflict, match="was added"):
        client.accept_proposed_document(open_kb, proposed.id)
    assert "Another text" in client.written_text(open_kb, "fenders.md").text


def test_what_is_refused(team: TeamSetup, kb: str) -> None:
    client = team.client
    with pytest.raises(Conflict, match="does not accept"):
        client.propose_document(kb, "fenders.md", NOTE)
    client.change_kb(kb, accepts_proposed_documents=True)
    for name in ("fenders.pdf", "../", "/"):
        with pytest.raises(ProblemError):
            client.propose_document(kb, name, NOTE)
    client.add_document(kb, b"\n" * (MAX_EDITABLE_BYTES + 1), "long.txt")
    with pytest.raises(Conflict, match="too large"):
        client.propose_document(kb, "long.txt", NOTE)
    with pytest.raises(NotFound):
        client.show_proposed_document(kb, "proposed_unknown")
    with team.with_role("reader") as reader:
        for attempt in (
            lambda: reader.propose_document(kb, "fenders.md", NOTE),
            lambda: reader.list_proposed_documents(kb),
        ):
            with pytest.raises(NotAllowed):
                attempt()


def test_documents_of_sources_cannot_be_proposed(team: TeamSetup, open_kb: str) -> None:
    client = team.client
    source = client.connect_source(open_kb, s.SourceIn(name="Pushed", kind="push", settings={}))
    client.push_documents(open_kb, source.id, [s.PushedIn(id="fenders.md", text=NOTE)])
    (document,) = client.list_documents(open_kb)
    with pytest.raises(Conflict, match="A source keeps"):
        client.propose_document(open_kb, document.name, NOTE)


def test_the_number_that_may_wait_is_limited(team: TeamSetup, open_kb: str) -> None:
    client = team.client
    for number in range(MAX_OPEN):
        client.propose_document(open_kb, f"note-{number}.md", NOTE)
    with pytest.raises(Conflict, match="wait for a decision"):
        client.propose_document(open_kb, "one-more.md", NOTE)
    assert len(client.list_proposed_documents(open_kb)) == MAX_OPEN


def test_erasing_a_document_removes_what_is_proposed_for_it(team: TeamSetup, open_kb: str) -> None:
    client = team.client
    client.write_document(open_kb, "fenders.md", NOTE)
    client.wait_for_document(open_kb, "fenders.md")
    proposed = client.propose_document(open_kb, "fenders.md", NOTE + "The key is with Alma.\n")
    erased = client.erase_document(open_kb, "fenders.md")
    assert erased.removed["proposed texts"] == 1
    with pytest.raises(NotFound):
        client.show_proposed_document(open_kb, proposed.id)
