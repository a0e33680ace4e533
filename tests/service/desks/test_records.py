"""Conversations, feedback and records of answers."""

from __future__ import annotations

import json
from collections.abc import Callable

import pytest

from fontanel import schemas as s
from fontanel.client import (
    Invalid,
    NotAllowed,
    NotFound,
)
from tests.conftest import TeamSetup
from tests.service.desks.conftest import QUESTION, Marine


def test_conversations_are_listed_searched_renamed_exported_and_deleted(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    client, result = marine[0].client, desk()
    first = client.ask_desk(result.id, "What is the wind limit for leaving the outer berth?")
    follow = client.ask_desk(result.id, "And for the ferry berth?", first.conversation_id)
    assert follow.conversation_id == first.conversation_id
    assert follow.standalone != follow.question
    other = client.ask_desk(result.id, "Which channel does the lock keeper answer on?")
    titles = {c.id: c.title for c in client.list_conversations(desk=result.id)}
    assert titles[first.conversation_id] == "Wind limit for leaving the outer berth"
    assert [c.id for c in client.list_conversations(desk=result.id, text="ferry berth")] == [
        first.conversation_id
    ]
    assert (
        client.rename_conversation(other.conversation_id, "The lock", desk=result.id).title
        == "The lock"
    )
    markdown = client.export_conversation(first.conversation_id, desk=result.id)
    assert markdown.startswith("# Wind limit")
    assert "[^1]" in markdown
    assert "[^1]: " in markdown
    kept = json.loads(client.export_conversation(first.conversation_id, "json", desk=result.id))
    assert [turn["question"] for turn in kept["turns"]] == [first.question, follow.question]
    client.delete_conversation(other.conversation_id, desk=result.id)
    with pytest.raises(NotFound):
        client.show_conversation(other.conversation_id, desk=result.id)
    reader = marine[0].with_role("reader")
    assert reader.list_conversations(desk=result.id) == []
    with pytest.raises(NotFound):
        reader.show_conversation(first.conversation_id, desk=result.id)


def test_feedback_reaches_the_editors_with_the_record(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    team, result = marine[0], desk()
    reader = team.with_role("reader")
    answer = reader.ask_desk(result.id, QUESTION)
    reader.give_feedback(
        result.id, answer.turn_id, helpful=False, reason="outdated", comment="It is 30 now."
    )
    reader.give_feedback(result.id, answer.turn_id, helpful=True, citation=1)
    reader.give_feedback(
        result.id, answer.turn_id, helpful=False, reason="wrong", comment="Not so."
    )
    with pytest.raises(Invalid):
        reader.give_feedback(result.id, answer.turn_id, helpful=True, citation=99)
    seen = team.client.list_desk_answers(result.id, helpful=False)
    assert [
        (row.question, [(f.citation, f.helpful, f.comment) for f in row.feedback]) for row in seen
    ] == [(QUESTION, [(0, False, "Not so."), (1, True, "")])]
    assert reader.show_answer(answer.turn_id).feedback == seen[0].feedback
    with pytest.raises(NotAllowed):
        reader.list_desk_answers(result.id)
    with pytest.raises(NotAllowed):
        reader.ask_desk(result.id, QUESTION, draft=True)
    another = team.with_role("reader")
    with pytest.raises(NotFound):
        another.show_answer(answer.turn_id)
    assert team.client.usage("desk", desk=result.id).total.not_helpful == 1


def test_a_record_says_when_its_text_has_changed_and_asks_again(team: TeamSetup) -> None:
    client = team.client
    kb = client.create_kb("Rules").slug
    client.add_document(
        kb,
        b"# Lock\n\nThe lock keeper answers on channel 71.",
        "lock.md",
        {"page": "https://lock.example/"},
        wait=True,
    )
    desk = client.create_desk(
        "Rules", s.DeskSettings(kbs=[s.DeskKb(kb=kb)], link_tags=["page"], evidence_needed=0.0)
    )
    client.publish_desk(desk.id)
    answer = client.ask_desk(desk.id, "Which channel does the lock keeper answer on?")
    assert [link.url for link in answer.links] == ["https://lock.example/"]
    same = client.ask_again(answer.turn_id)
    assert same.same_text
    client.add_document(
        kb, b"# Lock\n\nThe lock keeper answers on channel 14.", "lock.md", wait=True
    )
    record = client.show_answer(answer.turn_id)
    assert [(item.citation, item.state) for item in record.changed_since] == [(1, "changed")]
    again = client.ask_again(answer.turn_id)
    assert not again.same_text
    assert ("+", "The lock keeper answers on channel 14.") in again.lines
    assert len(again.citations_new) == len(again.citations_gone) == 1
    assert len(client.show_conversation(answer.conversation_id, desk=desk.id)) == 1
    client.delete_document(kb, "lock.md")
    assert client.show_answer(answer.turn_id).changed_since[0].state == "gone"


def test_a_citation_says_where_else_it_stands(team: TeamSetup) -> None:
    client = team.client
    kb = client.create_kb("Rules").slug
    text = (
        "The lock keeper answers on channel 71, and in fog on channel 14 as well, from an hour"
        " before high water."
    )
    for name in ("Lock", "Bridge"):
        client.add_document(kb, f"# {name}\n\n{text}".encode(), f"{name}.md", wait=True)
    answer = client.ask(kb, "Which channel does the lock keeper answer on in fog?")
    assert answer.citations
    assert {answer.citations[0].title, *answer.citations[0].also} == {"Lock", "Bridge"}


def test_old_conversations_go_by_the_team_s_wish_and_use_stays(team: TeamSetup) -> None:
    assert team.client.change_team(s.TeamChange(kept_days=30)).kept_days == 30
    assert team.client.change_team(s.TeamChange(name="Still here")).kept_days == 30
    assert team.client.change_team(s.TeamChange(kept_days=None)).kept_days is None
