"""Proposed questions: made of a document, reviewed, and kept where its text is unchanged."""

from __future__ import annotations

import pytest

from fontanel import schemas as s
from fontanel.client import NotFound, ProblemError
from tests.conftest import TeamSetup, until

RULES = """# Berth rules

A ship may lie at a berth for 5 days. Fresh water costs 3.20 crowns a tonne.

## Shore power

The connection is made by the harbour electrician. Hull scraping in the water is not allowed.

| Berth | Greatest length | Crane |
| --- | --- | --- |
| Berth 2 | 95 metres | no |
| Berth 4 | 120 metres | yes |
"""


@pytest.fixture
def rules(team: TeamSetup, kb: str) -> str:
    team.client.write_document(kb, "berths.md", RULES)
    team.client.wait_for_document(kb, "berths.md")
    return kb


def proposed(team: TeamSetup, kb: str) -> dict[str, s.ProposalOut]:
    """Propose the questions of the rules; return them by question."""
    team.client.propose_questions(kb, "berths.md")
    until(lambda: not team.client.document_proposals(kb, "berths.md").waiting)
    result = team.client.document_proposals(kb, "berths.md")
    assert result.error == ""
    assert result.tried >= len(result.items)
    return {one.question: one for one in result.items}


def test_questions_are_answered_by_their_own_text(team: TeamSetup, rules: str) -> None:
    text = team.client.document_text(rules, "berths.md").text
    found = proposed(team, rules)
    assert "How much does fresh water cost?" in found
    water = found["How much does fresh water cost?"]
    assert text[water.start : water.end] == water.quote
    assert "3.20 crowns" in water.answer
    assert water.relevance >= 0.5
    assert team.client.list_proposals(rules)[0].title == "Berth rules"


def test_approved_ones_are_served_and_dismissed_ones_stay_away(team: TeamSetup, rules: str) -> None:
    client = team.client
    found = proposed(team, rules)
    water = found.pop("How much does fresh water cost?")
    changed = client.change_proposal(
        rules, water.id, s.ProposalChange(answer="3.20 crowns a tonne.", phrasings=["Water price?"])
    )
    assert changed.answer == "3.20 crowns a tonne."
    (approved,) = client.decide_proposals(rules, [water.id], "approve", "Prices")
    row = client.show_approved(rules, approved.approved_id or "")
    assert (row.category, row.phrasings, row.served) == ("Prices", ["Water price?"], True)
    assert row.places[0].quote == water.quote
    assert client.ask(rules, "Water price?").text == "3.20 crowns a tonne."
    others = [one.id for one in found.values()]
    assert others
    client.decide_proposals(rules, others, "dismiss")
    assert client.list_proposals(rules) == []
    again = proposed(team, rules)
    assert {one.state for one in again.values()} == {"approved", "dismissed"}
    client.decide_proposals(rules, others[:1], "open")
    assert [one.id for one in client.list_proposals(rules)] == others[:1]
    with pytest.raises(ProblemError, match="approved already"):
        client.decide_proposals(rules, [water.id], "dismiss")
    with pytest.raises(NotFound):
        client.decide_proposals(rules, [others[0], "prop_none"], "approve")
    assert client.list_proposals(rules)[0].state == "open"


def test_only_changed_text_is_proposed_again(team: TeamSetup, rules: str) -> None:
    client = team.client
    found = proposed(team, rules)
    client.decide_proposals(rules, [one.id for one in found.values()], "dismiss")
    document = client.show_document(rules, "berths.md")
    text = f"First of all.\n\n{RULES}".replace("3.20 crowns", "4.10 crowns")
    client.rewrite_document(rules, document.id, text, document.version)
    client.wait_for_document(rules, "berths.md")
    again = proposed(team, rules)
    water = again["How much does fresh water cost?"]
    assert (water.state, water.id) == ("open", found["How much does fresh water cost?"].id)
    assert "4.10 crowns" in water.answer
    known = {one.id for one in found.values()} - {water.id}
    assert {one.state for one in again.values() if one.id in known} == {"dismissed"}
    now = client.document_text(rules, "berths.md").text
    assert all(now[one.start : one.end] == one.quote for one in again.values())


def test_a_knowledge_base_proposes_by_itself(team: TeamSetup, rules: str) -> None:
    client = team.client
    assert client.document_proposals(rules, "berths.md").revision_id is None
    client.change_kb(rules, proposes_questions=True)
    until(lambda: client.list_proposals(rules))
    before = client.document_proposals(rules, "berths.md")
    document = client.show_document(rules, "berths.md")
    client.rewrite_document(rules, document.id, RULES + "\nSheds cost 9 crowns.", document.version)
    until(lambda: client.document_proposals(rules, "berths.md").revision_id != before.revision_id)


def test_another_language_is_said(team: TeamSetup, kb: str) -> None:
    sentence = "Das Schiff darf fünf Tage am Liegeplatz liegen, wenn der Hafenmeister das erlaubt. "
    text = sentence * 8
    team.client.write_document(kb, "regeln.md", text)
    team.client.wait_for_document(kb, "regeln.md")
    team.client.propose_questions(kb, "regeln.md")
    until(lambda: not team.client.document_proposals(kb, "regeln.md").waiting)
    result = team.client.document_proposals(kb, "regeln.md")
    assert "English documents only" in result.error
    assert result.items == []
