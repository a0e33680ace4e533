"""Past answers whose text changes: followed, listed, asked again."""

from __future__ import annotations

from fontanel.client import Client
from tests.conftest import TeamSetup, until

QUESTION = "How much does fresh water cost?"
RULES = "# Prices\n\nFresh water costs 3.20 crowns a tonne.\n\n## Power\n\nShore power is free.\n"


def rewrite(client: Client, kb: str, text: str) -> None:
    document = client.show_document(kb, "prices.md")
    client.rewrite_document(kb, document.id, text, document.version)
    client.wait_for_document(kb, "prices.md")


def test_changed_text_is_listed_and_unchanged_text_is_followed(team: TeamSetup, kb: str) -> None:
    client = team.client
    client.write_document(kb, "prices.md", RULES)
    client.wait_for_document(kb, "prices.md")
    answer = client.ask(kb, QUESTION)
    again = client.ask(kb, QUESTION)
    # It only moves: nothing to look at.
    rewrite(client, kb, f"New first line.\n\n{RULES}")
    rewrite(client, kb, f"Another first line.\n\n{RULES}".replace("3.20", "4.10"))
    until(lambda: len(client.list_changed_answers()) == 2)
    changed = {one.answer_id: one for one in client.list_changed_answers(contradicted=True)}
    assert set(changed) == {answer.turn_id, again.turn_id}
    (source,) = changed[answer.turn_id].sources
    assert source.change == "contradicted"
    assert source.old_text == "Fresh water costs 3.20 crowns a tonne."
    assert source.new_text == "Fresh water costs 4.10 crowns a tonne."
    assert "4.10" in client.ask_again(answer.turn_id).now.text
    # It says again what it said: no answer is wrong any more.
    rewrite(client, kb, RULES)
    until(lambda: client.list_changed_answers() == [])
    client.delete_document(kb, "prices.md")
    until(lambda: len(client.list_changed_answers()) == 2)
    assert client.list_changed_answers()[0].sources[0].change == "removed"
    client.delete_conversation(answer.conversation_id, kb=kb)
    assert [one.answer_id for one in client.list_changed_answers()] == [again.turn_id]
