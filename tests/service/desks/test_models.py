"""Desks answer with a model: citations checked, failures survived, budgets kept."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from fontanel import schemas as s
from fontanel.client import (
    NotAllowed,
)
from tests.conftest import Service, TeamSetup, until
from tests.service.desks.conftest import QUESTION, Marine


def test_a_model_answers_with_citations_bound_and_checked(
    models: str, marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    client, result = marine[0].client, desk(model="honest")
    events = list(client.stream_desk_answer(result.id, QUESTION))
    assert [type(event) for event in events[:2]] == [s.StartEvent, s.EvidenceEvent]
    finish = events[-1]
    assert isinstance(finish, s.FinishEvent)
    answer = finish.answer
    assert "".join(event.text for event in events if isinstance(event, s.PieceEvent)) == answer.text
    assert answer.composer == "honest"
    assert "[" not in answer.text
    assert answer.citations
    for citation in answer.citations:
        text = client.document_text(marine[1], citation.document_id, citation.revision_id).text
        assert text[citation.start : citation.end] == citation.quote
    outdated = {citation.number for citation in answer.citations if citation.outdated}
    for statement in answer.statements:
        only_outdated = set(statement.citations) <= outdated
        assert statement.verdict == ("outdated" if only_outdated else "supported")
    record = client.show_answer(answer.turn_id)
    assert [step.name for step in record.steps] == [
        "routing",
        "stand-alone question",
        "approved answers",
        "retrieval",
        "ranking by evidence",
        "evidence check",
        "packing",
        "prompt",
        "model",
        "verification",
    ]
    assert record.raw.count("[") >= 1
    assert QUESTION in record.prompt[1].content
    assert record.prompt[0].role == "system"
    assert record.tokens_read > 100
    assert record.cost == pytest.approx((record.tokens_read * 2 + record.tokens_written * 8) / 1e6)
    packed = next(step for step in record.steps if step.name == "packing").details
    assert packed["tokens"] <= packed["budget"] == 1200


def test_what_a_model_makes_up_is_marked_or_left_out(
    models: str, marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    client, result = marine[0].client, desk(model="lying")
    question = "At what gust is the quay crane pinned?"
    marked = client.ask_desk(result.id, question)
    doubtful = [st for st in marked.statements if st.verdict in ("weak", "uncited")]
    assert doubtful
    assert all(st.reason for st in doubtful)
    removed = client.ask_desk(result.id, question, settings={"unsupported": "remove"})
    for statement in removed.statements:
        if statement.removed:
            assert statement.removed not in removed.text
    kept = [removed.text[st.start : st.end] for st in removed.statements if not st.removed]
    assert all(st.verdict == "supported" for st in removed.statements if not st.removed)
    assert removed.outcome == "declined" or "".join(kept)


@pytest.mark.parametrize(
    ("model", "reason"),
    [
        ("failing", "status 500"),
        ("broken", "broke off"),
        ("malformed", "cannot be read"),
        ("busy", "asked too much"),
        ("empty", "wrote nothing"),
    ],
)
def test_when_a_model_fails_the_built_in_composer_answers_and_says_so(
    models: str, marine: Marine, desk: Callable[..., s.DeskOut], model: str, reason: str
) -> None:
    result = desk(model=model)
    plain = marine[0].client.ask_desk(result.id, QUESTION, settings={"model": None})
    events = list(marine[0].client.stream_desk_answer(result.id, QUESTION))
    finish = events[-1]
    assert isinstance(finish, s.FinishEvent)
    assert finish.answer.text == plain.text
    assert finish.answer.composer == "built-in"
    assert reason in finish.answer.note
    # The text before the failure is withdrawn.
    assert any(isinstance(event, s.RestartEvent) for event in events) == (
        model in ("broken", "malformed")
    )


def test_limits_and_servers_without_streams_are_no_failure(
    models: str, marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    for model in ("limited", "whole"):
        answer = marine[0].client.ask_desk(desk(model=model).id, QUESTION)
        assert answer.composer == model
        assert model not in answer.note
        assert answer.citations


def test_a_model_that_is_gone_or_forbidden_is_done_without(
    models: str, service: Service, marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    client, result = marine[0].client, desk(model="honest")
    with service.operator() as operator:
        operator.change_model("honest", s.ModelChange(enabled=False))
        assert "switched off" in client.ask_desk(result.id, QUESTION).note
        operator.change_model("honest", s.ModelChange(enabled=True, teams=[]))
        assert "may not use it" in client.ask_desk(result.id, QUESTION).note
        assert "honest" not in [model.name for model in client.list_usable_models()]
        # What a name stands for can be swapped without touching the desk.
        operator.change_model("honest", s.ModelChange(teams=[marine[0].slug], remote="whole"))
        assert client.ask_desk(result.id, QUESTION).composer == "honest"
        operator.change_model("honest", s.ModelChange(remote="honest"))
        assert operator.check_model("honest").works
        operator.change_model("honest", s.ModelChange(url="http://127.0.0.1:9/v1"))
        check = operator.check_model("honest")
        assert not check.works
        assert "cannot be reached" in (check.error or "")
        operator.change_model("honest", s.ModelChange(url=models, teams=None))
    with pytest.raises(NotAllowed):
        client.list_models()


def test_an_asker_who_leaves_ends_the_model_and_the_turn_stays(
    models: str, marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    client, result = marine[0].client, desk(model="slow")
    stream = client.stream_desk_answer(result.id, QUESTION)
    start = next(stream)
    assert isinstance(start, s.StartEvent)
    while not isinstance(next(stream), s.PieceEvent):
        pass
    stream.close()  # type: ignore[attr-defined]

    def stopped() -> bool:
        return client.show_conversation(start.conversation_id, desk=result.id)[0].state == "stopped"

    until(stopped)
    turn = client.show_conversation(start.conversation_id, desk=result.id)[0]
    assert turn.outcome == "unfinished"
    assert turn.text


def test_a_budget_warns_and_then_holds_models_back(models: str, team: TeamSetup) -> None:
    client = team.client
    kb = client.create_kb("Rules").slug
    client.add_document(
        kb, b"# Lock\n\nThe lock keeper answers on channel 71.", "lock.md", wait=True
    )
    desk = client.create_desk(
        "Rules", s.DeskSettings(kbs=[s.DeskKb(kb=kb)], model="honest", evidence_needed=0.0)
    )
    client.publish_desk(desk.id)
    question = "Which channel does the lock keeper answer on?"
    first = client.ask_desk(desk.id, question)
    used = first.tokens_read + first.tokens_written
    client.change_team(s.TeamChange(monthly_tokens=int(used * 2.2)))
    assert client.usage().budget.state == "fine"
    assert client.ask_desk(desk.id, question).composer == "honest"
    assert client.usage().budget.state == "low"
    assert [notice.kind for notice in client.list_notices().items] == ["budget.low"]
    assert client.ask_desk(desk.id, question).composer == "honest"
    spent = client.ask_desk(desk.id, question)
    assert spent.composer == "built-in"
    assert "monthly budget" in spent.note
    assert spent.citations
    usage = client.usage("model")
    assert {row.key: row.questions for row in usage.rows} == {"honest": 3, "built-in": 1}
    assert usage.total.tokens_read == 3 * first.tokens_read
    assert usage.budget.state == "spent"
    lines = client.usage_csv("desk").splitlines()
    assert lines[0].startswith("key,name,questions")
    assert ",Rules,4," in lines[1]
    with team.service.operator() as operator:
        mine = next(row for row in operator.all_usage() if row.used.key == team.slug)
        assert (mine.used.questions, mine.used.tokens_read) == (4, usage.total.tokens_read)
        assert mine.budget == usage.budget
        assert any(
            line.startswith(f"{team.slug},") for line in operator.all_usage_csv().splitlines()
        )
    with pytest.raises(NotAllowed):
        client.all_usage()


def test_usage_names_the_model_that_was_called_and_adds_up(
    models: str, marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    """A model that failed, one whose statements were removed, and one that was stopped."""
    client = marine[0].client
    broken = desk(model="broken")
    assert client.ask_desk(broken.id, QUESTION).composer == "built-in"
    lying = desk(model="lying", unsupported="remove")
    client.ask_desk(lying.id, QUESTION)
    slow = desk(model="slow")
    stream = client.stream_desk_answer(slow.id, QUESTION)
    while not isinstance(next(stream), s.PieceEvent):
        pass
    stream.close()  # type: ignore[attr-defined]
    until(lambda: client.usage("model", desk=slow.id).rows)
    stopped = client.usage("model", desk=slow.id)
    assert [(row.key, row.questions, row.unfinished) for row in stopped.rows] == [("slow", 1, 1)]
    assert stopped.total.tokens_read > 0
    assert stopped.total.cost > 0
    for used, name in ((broken, "broken"), (lying, "lying")):
        usage = client.usage("model", desk=used.id)
        assert [(row.key, row.questions) for row in usage.rows] == [(name, 1)]
    client.ask_desk(broken.id, "Hello")
    for by in ("day", "desk", "kb", "member", "model"):
        usage = client.usage(by, desk=broken.id)
        assert sum(row.questions for row in usage.rows) == usage.total.questions == 2
        total = usage.total
        assert total.answered + total.declined + total.unfinished == total.questions


def test_without_any_supported_statement_the_evidence_answers(
    models: str, marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    result = desk(model="lying", unsupported="remove")
    for question in (QUESTION, "How long may a ship stay at the outer berth?", "Who closes it?"):
        answer = marine[0].client.ask_desk(result.id, question)
        removed = [statement for statement in answer.statements if statement.removed]
        if answer.composer == "built-in" and removed:
            break
    assert answer.outcome == "answered"
    assert "No statement of the model lying was supported" in answer.note
    assert answer.citations
    assert all(not statement.citations for statement in removed)
