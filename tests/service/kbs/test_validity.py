"""Documents that are not in force: detected, marked, ranked, cited."""

from __future__ import annotations

import pytest

from fontanel import schemas as s
from fontanel.client import Invalid, NotFound
from tests.conftest import DOCUMENTS, TeamSetup

NOTICE, PLAN = "heavy-weather-notice-2019.txt", "storm-plan.pdf"
WIND = "wind limit outer berth"


def add(team: TeamSetup, kb: str, name: str, text: str | None = None) -> None:
    content = (DOCUMENTS / "marine-operations" / name) if text is None else text.encode()
    added = team.client.add_document(kb, content, name, wait=True)
    assert added.document.state == "indexed"


def reason_of(team: TeamSetup, kb: str, name: str) -> str | None:
    validity = team.client.show_document(kb, name).validity
    return validity.outdated.reason if validity and validity.outdated else None


@pytest.mark.parametrize("order", [(NOTICE, PLAN), (PLAN, NOTICE)])
def test_a_replaced_document_is_recognised_in_any_order(
    team: TeamSetup, kb: str, order: tuple[str, str]
) -> None:
    for name in order:
        add(team, kb, name)
    notice = team.client.show_document(kb, NOTICE).validity
    assert notice is not None
    assert notice.outdated is not None
    assert (notice.outdated.reason, notice.outdated.replaced_by) == ("replaced", "Storm plan")
    plan = team.client.show_document(kb, PLAN)
    assert plan.validity is not None
    assert (plan.validity.outdated, plan.validity.replaces) == (None, [NOTICE])
    assert str(plan.validity.in_force_from) == "2024-03-01"
    text = team.client.document_text(kb, NOTICE).text
    for statement in notice.statements:
        assert text[statement.start : statement.end] == statement.quote
    assert [d.name for d in team.client.list_documents(kb, outdated=True)] == [NOTICE]
    assert team.client.show_kb(kb).outdated_documents == 1


def test_outdated_documents_rank_lower_equally_or_not_at_all(team: TeamSetup, kb: str) -> None:
    add(team, kb, NOTICE)
    add(team, kb, PLAN)
    client = team.client

    def found() -> list[tuple[str, bool]]:
        return [(h.document_name, h.outdated is not None) for h in client.search(kb, WIND).hits]

    def score() -> float:
        hits = client.search(kb, WIND).hits
        return max(hit.score for hit in hits if hit.document_name == NOTICE)

    lower = found()
    assert lower[0] == (PLAN, False)
    assert (NOTICE, True) in lower
    lowered = score()
    client.change_kb(kb, outdated="equal")
    assert score() > lowered
    client.change_kb(kb, outdated="exclude")
    assert {name for name, _ in found()} == {PLAN}
    client.change_kb(kb, outdated="lower")
    # Who asks for the notice of that year gets it first.
    assert client.search(kb, f"{WIND} in the notice of 2019").hits[0].document_name == NOTICE


def test_answers_quote_what_is_in_force_and_say_when_they_cannot(team: TeamSetup, kb: str) -> None:
    question = "What is the wind limit for leaving the outer berth?"
    add(team, kb, NOTICE)
    alone = team.client.ask(kb, question)
    assert alone.outcome == "answered"
    assert alone.citations[0].outdated is not None
    assert alone.citations[0].outdated.replaced_by == "the storm plan of 1 March 2024"
    assert "has been replaced by “the storm plan of 1 March 2024”" in alone.note
    add(team, kb, PLAN)
    both = team.client.ask(kb, question)
    assert {citation.title for citation in both.citations} == {"Storm plan"}
    assert both.note == ""
    stored = team.client.show_conversation(alone.conversation_id, kb=kb)
    assert stored[0].citations[0].outdated == alone.citations[0].outdated


def test_people_decide_and_withdraw_their_decision(team: TeamSetup, kb: str) -> None:
    client = team.client
    add(team, kb, "gate.md", "# Gate rules\n\nThe gate closes at 21:00.")
    add(team, kb, "gate-2.md", "# New rules of the gate\n\nThe gate closes at 22:00.")
    marked = client.mark_document(kb, "gate.md", "replaced", replaced_by="gate-2.md")
    assert marked.validity is not None
    assert marked.validity.marked_by == "key tests"
    assert reason_of(team, kb, "gate.md") == "replaced"
    with pytest.raises(Invalid, match="in the end, replaced by"):
        client.mark_document(kb, "gate-2.md", "replaced", replaced_by="gate.md")
    with pytest.raises(NotFound):
        client.mark_document(kb, "gate.md", "replaced", replaced_by="nothing.md")
    # A decision outlives a new revision; without the replacement the document stays outdated.
    add(team, kb, "gate.md", "# Gate rules\n\nThe gate closes at 20:00.")
    client.delete_document(kb, "gate-2.md")
    assert reason_of(team, kb, "gate.md") == "replaced"
    client.unmark_document(kb, "gate.md")
    assert client.show_document(kb, "gate.md").validity is None


def test_a_decision_outweighs_the_text(team: TeamSetup, kb: str) -> None:
    add(team, kb, NOTICE)
    assert reason_of(team, kb, NOTICE) == "replaced"
    team.client.mark_document(kb, NOTICE, "current")
    assert reason_of(team, kb, NOTICE) is None
    team.client.mark_document(kb, NOTICE, "withdrawn")
    assert reason_of(team, kb, NOTICE) == "withdrawn"
    team.client.unmark_document(kb, NOTICE)
    assert reason_of(team, kb, NOTICE) == "replaced"


def test_days_decide_and_a_replacement_counts_once_it_begins(team: TeamSetup, kb: str) -> None:
    add(team, kb, "tariff.md", "# Tariff\n\nValid from 1 May 2020 to 30 April 2021. 9 crowns.")
    add(team, kb, "fees.md", "# Quay fees\n\nThe fee is 5 crowns.")
    add(
        team,
        kb,
        "fees-2199.md",
        "# Quay charges\n\nIn force from 1 May 2199. They replace the quay fees.",
    )
    assert reason_of(team, kb, "tariff.md") == "expired"
    assert reason_of(team, kb, "fees-2199.md") == "not_yet"
    assert reason_of(team, kb, "fees.md") is None
    add(
        team,
        kb,
        "fees-2199.md",
        "# Quay charges\n\nIn force from 1 May 2019. They replace the quay fees.",
    )
    assert reason_of(team, kb, "fees.md") == "replaced"
    team.client.delete_document(kb, "fees-2199.md")
    assert reason_of(team, kb, "fees.md") is None


def test_documents_that_replace_each_other_are_not_trusted(team: TeamSetup, kb: str) -> None:
    add(team, kb, "north.md", "# North rules\n\nThese rules replace the south rules.")
    add(team, kb, "south.md", "# South rules\n\nThese rules replace the north rules.")
    assert reason_of(team, kb, "north.md") is None
    assert reason_of(team, kb, "south.md") is None


def test_the_end_of_a_chain_of_replacements_is_named(team: TeamSetup, kb: str) -> None:
    add(team, kb, "first.md", "# First rules\n\nText of the first.")
    add(team, kb, "second.md", "# Second rules\n\nThese rules replace the first rules.")
    add(team, kb, "third.md", "# Third rules\n\nThese rules replace the second rules.")
    first = team.client.show_document(kb, "first.md").validity
    assert first is not None
    assert first.outdated is not None
    assert first.outdated.replaced_by == "Third rules"


def test_documents_that_disagree_are_dated(team: TeamSetup, kb: str) -> None:
    for name, day, knots in (("a.md", "1 March 2024", 38), ("b.md", "2 May 2019", 45)):
        text = f"# Crane rules {name[0]}\n\n{day}\n\n## Wind\n\nThe crane stops at {knots} knots.\n"
        add(team, kb, name, text)
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=kb)], evidence_needed=0.0)
    desk = team.client.create_desk("Cranes", settings)
    team.client.publish_desk(desk.id)
    answered = team.client.ask_desk(desk.id, "At how many knots does the crane stop?")
    assert "(2024-03-01)" in answered.text
    assert "(2019-05-02) says otherwise:" in answered.text
