"""Approved answers whose text changes: followed, flagged, withheld, confirmed."""

from __future__ import annotations

import pytest

from fontanel import schemas as s
from fontanel.client import NotFound
from tests import patient
from tests.conftest import TeamSetup, until

QUESTION = "Up to what wind are boats let out of the basin?"
PLAN = """# Basin

Boats leave the basin up to a wind of 20 knots.

## Fenders

Each boat hangs out four fenders.
"""


@pytest.fixture
def basin(team: TeamSetup, kb: str) -> str:
    """An approved answer on the first sentence of a document; its id."""
    client = team.client
    client.write_document(kb, "basin.md", PLAN)
    client.wait_for_document(kb, "basin.md")
    start = client.document_text(kb, "basin.md").text.index("Boats leave")
    place = {"document": "basin.md", "start": start, "end": start + 47}
    body = {"question": QUESTION, "text": "Up to 20 knots.", "state": "approved"}
    return client.create_approved(kb, s.ApprovedIn.model_validate({**body, "places": [place]})).id


def rewrite(team: TeamSetup, kb: str, text: str) -> None:
    document = team.client.show_document(kb, "basin.md")
    team.client.rewrite_document(kb, document.id, text, document.version)
    team.client.wait_for_document(kb, "basin.md")


def test_text_that_only_moves_is_followed(team: TeamSetup, kb: str, basin: str) -> None:
    client = team.client
    before = client.show_approved(kb, basin).places[0]
    rewrite(team, kb, PLAN.replace("# Basin", "# Basin\n\nNew first paragraph.\n\n## Wind"))
    until(lambda: client.show_approved(kb, basin).places[0].revision_id != before.revision_id)
    after = client.show_approved(kb, basin)
    place = after.places[0]
    assert client.document_text(kb, "basin.md").text[place.start : place.end] == before.quote
    assert place.locator.heading_path[-1] == "Wind"
    assert after.version == 1
    assert client.list_flags(kb) == []
    assert client.ask(kb, QUESTION).citations[0].revision_id == place.revision_id


def test_another_value_is_withheld_until_it_is_corrected(
    team: TeamSetup, kb: str, basin: str
) -> None:
    client = team.client
    rewrite(team, kb, PLAN.replace("20 knots", "17 knots"))
    until(lambda: client.list_flags(kb))
    (flag,) = client.list_flags(kb)
    assert (flag.change, flag.approved_id) == ("contradicted", basin)
    assert flag.old_text == "Boats leave the basin up to a wind of 20 knots."
    assert flag.new_text == flag.old_text.replace("20", "17")
    assert "approved.flagged" in [notice.kind for notice in client.list_notices().items]
    answer = client.ask(kb, QUESTION)
    assert answer.approval is None
    assert "17 knots" in answer.text
    assert (client.show_kb(kb).approved, client.show_kb(kb).flagged) == (1, 1)
    figures = patient.get(f"{team.service.url}/metrics").text
    assert f'fontanel_approved_answers_flagged{{kb="{client.show_kb(kb).id}"' in figures
    # A desk may serve it all the same; the answer then says so.
    desk = client.create_desk("Basin", s.DeskSettings(kbs=[s.DeskKb(kb=kb)], flagged="serve"))
    client.publish_desk(desk.id)
    served = client.ask_desk(desk.id, QUESTION)
    assert served.approval is not None
    assert served.approval.flag == "contradicted"
    client.change_approved(kb, basin, s.ApprovedChange(text="Up to 17 knots."), 1)
    assert client.list_flags(kb) == []
    assert client.list_flags(kb, "settled")[0].settled_by != ""
    answer = client.ask(kb, QUESTION)
    assert (answer.text, answer.citations[0].quote) == ("Up to 17 knots.", flag.new_text)


def test_another_wording_is_served_and_confirmed(team: TeamSetup, kb: str, basin: str) -> None:
    client = team.client
    rewrite(team, kb, PLAN.replace("Boats leave the basin", "Boats may leave the yacht basin"))
    until(lambda: client.list_flags(kb))
    (flag,) = client.list_flags(kb)
    assert flag.change == "reworded"
    answer = client.ask(kb, QUESTION)
    assert answer.approval is not None
    assert answer.approval.flag == "reworded"
    assert client.confirm_flag(kb, flag.id).version == 2
    assert client.list_flags(kb) == []
    answer = client.ask(kb, QUESTION)
    assert answer.approval is not None
    assert answer.approval.flag == ""
    assert answer.citations[0].quote == flag.new_text
    with pytest.raises(NotFound):
        client.confirm_flag(kb, "flag_unknown")


def test_a_removed_text_and_one_that_comes_back(team: TeamSetup, kb: str, basin: str) -> None:
    client = team.client
    rewrite(team, kb, PLAN.replace("Boats leave the basin up to a wind of 20 knots.", "Closed."))
    until(lambda: client.list_flags(kb))
    assert client.list_flags(kb)[0].change == "removed"
    assert client.ask(kb, QUESTION).approval is None
    rewrite(team, kb, PLAN)
    until(lambda: not client.list_flags(kb))
    assert client.ask(kb, QUESTION).approval is not None
    client.delete_document(kb, "basin.md")
    until(lambda: client.list_flags(kb))
    assert client.list_flags(kb)[0].revision_id is None
