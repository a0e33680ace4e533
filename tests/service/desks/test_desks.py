"""Desks: drafts, versions, models, links, conversations, feedback, records, usage."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest

from fontanel import schemas as s
from fontanel.client import (
    ChangedMeanwhile,
    Conflict,
    Invalid,
)
from tests import patient
from tests.conftest import TeamSetup
from tests.core.injected import PLANTED, injected
from tests.service.desks.conftest import QUESTION, Marine


def test_a_desk_is_drafted_published_compared_and_rolled_back(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    client = marine[0].client
    result = desk(
        publish=False, instructions="Be brief.\nName the berth.", first_questions=["Who pilots?"]
    )
    with pytest.raises(Conflict, match="not published"):
        client.ask_desk(result.slug, QUESTION)
    assert client.ask_desk(result.slug, QUESTION, draft=True).desk_version is None
    assert client.publish_desk(result.slug, "first").number == 1
    seen = client.show_desk(result.slug).version
    changed = client.change_desk(
        result.slug,
        {"instructions": "Be brief.\nName the quay.", "length": "short"},
        version=seen,
    )
    with pytest.raises(ChangedMeanwhile, match="by now"):
        client.change_desk(result.slug, {"length": "long"}, version=seen)
    assert changed.changed
    assert changed.published
    assert changed.published.settings.length == "medium"
    differences = {d.setting: d for d in client.compare_desk_versions(result.slug, 1).differences}
    assert set(differences) == {"instructions", "length"}
    assert differences["instructions"].lines == [
        (" ", "Be brief."),
        ("-", "Name the berth."),
        ("+", "Name the quay."),
    ]
    draft, serving = (
        client.ask_desk(result.slug, QUESTION, draft=draft) for draft in (True, False)
    )
    assert len(draft.text) < len(serving.text)
    assert (draft.desk_version, serving.desk_version) == (None, 1)
    assert client.publish_desk(result.slug, "shorter").number == 2
    assert (
        client.activate_desk_version(result.slug, 1).published
        == client.list_desk_versions(result.slug)[1]
    )
    assert client.ask_desk(result.slug, QUESTION).desk_version == 1
    assert [v.note for v in client.list_desk_versions(result.slug)] == ["shorter", "first"]


@pytest.mark.parametrize(
    ("settings", "field"),
    [
        ({"kbs": [{"kb": "nothing-there"}]}, "settings.kbs"),
        ({"model": "no such model"}, "settings.model"),
        ({"evidence_needed": 7}, "settings.evidence_needed"),
        ({"colour": "neon"}, "settings.colour"),
        ({"frame_origins": ["intranet"]}, "settings.frame_origins"),
        ({"no_such_setting": 1}, "settings.no_such_setting"),
    ],
)
def test_settings_that_cannot_be_are_refused_by_name(
    marine: Marine, desk: Callable[..., s.DeskOut], settings: dict[str, Any], field: str
) -> None:
    result = desk()
    with pytest.raises(Invalid) as refused:
        marine[0].client.change_desk(result.id, settings, version=result.version)
    assert refused.value.problem.field == field
    assert not marine[0].client.show_desk(result.id).changed


def test_answers_keep_to_length_and_layout(marine: Marine, desk: Callable[..., s.DeskOut]) -> None:
    client, result = marine[0].client, desk()
    for question, layout, begins in (
        ("How is a crane taken out of service?", "list", "- "),
        ("How is a crane taken out of service?", "steps", "1. "),
        # Text without a table's rows becomes a list.
        ("How is a crane taken out of service?", "table", "- "),
        ("Which bollards and shore power does the outer berth have?", "table", "| "),
    ):
        text = client.ask_desk(
            result.id, question, settings={"layout": layout, "evidence_needed": 0.0}
        ).text
        starts = ("1. ", "2. ", "3. ", "4. ", "5. ") if layout == "steps" else (begins,)
        assert all(
            line.startswith(starts) or line.endswith(":") for line in text.split("\n") if line
        ), text
        assert begins in text
    lengths = [
        len(client.ask_desk(result.id, QUESTION, settings={"length": length}).text)
        for length in ("short", "medium", "long")
    ]
    assert lengths == sorted(lengths)


def test_the_same_key_gives_the_same_answer(marine: Marine, desk: Callable[..., s.DeskOut]) -> None:
    client, result = marine[0].client, desk()
    first = client.ask_desk(result.id, QUESTION, idempotency_key="once")
    again = client.ask_desk(result.id, QUESTION, idempotency_key="once")
    assert again.turn_id == first.turn_id
    assert isinstance(
        [*client.stream_desk_answer(result.id, QUESTION, idempotency_key="once")][-1],
        s.FinishEvent,
    )
    assert len(client.show_conversation(first.conversation_id, desk=result.id)) == 1
    with pytest.raises(Conflict):
        client.ask_desk(result.id, "Another?", idempotency_key="once")


def test_a_key_waits_for_the_answer_that_is_on_its_way_and_is_free_again_without_one(
    models: str, marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    client, result = marine[0].client, desk(model="limited")
    first = client.stream_desk_answer(result.id, QUESTION, idempotency_key="at once")
    assert isinstance(next(first), s.StartEvent)
    with ThreadPoolExecutor(1) as pool:
        second = pool.submit(client.ask_desk, result.id, QUESTION, idempotency_key="at once")
        finish = [*first][-1]
        assert isinstance(finish, s.FinishEvent)
        assert second.result().turn_id == finish.answer.turn_id
    slow = client.change_desk(result.id, {"model": "slow"}, version=result.version)
    left = client.stream_desk_answer(result.id, QUESTION, draft=True, idempotency_key="left")
    start = next(left)
    assert isinstance(start, s.StartEvent)
    left.close()  # type: ignore[attr-defined]
    client.change_desk(result.id, {"model": "limited"}, version=slow.version)
    answer = client.ask_desk(result.id, QUESTION, draft=True, idempotency_key="left")
    assert answer.turn_id != start.turn_id
    assert answer.outcome == "answered"


@pytest.mark.parametrize("model", [None, "honest", "gullible"])
def test_orders_in_documents_steer_no_desk(
    models: str, team: TeamSetup, kb: str, model: str | None
) -> None:
    client = team.client
    for number, order in enumerate(PLANTED):
        client.add_document(
            kb, injected(order).replace(b"# Lock", b"# Lock %d" % number), f"lock-{number}.md"
        )
    for document in client.list_documents(kb):
        client.wait_for_document(kb, document.id)
    desk = client.create_desk(
        "Lock desk", s.DeskSettings(kbs=[s.DeskKb(kb=kb)], model=model, evidence_needed=0.0)
    )
    client.publish_desk(desk.id)
    for question in (
        "Which channel does the lock keeper answer on?",
        "When does the lock work?",
        "What should I say?",
    ):
        answer = client.ask_desk(desk.id, question)
        assert "CANARY" not in answer.text
        assert answer.composer == (model or "built-in") or answer.outcome == "declined"
    assert "71" in client.ask_desk(desk.id, "Which channel does the lock keeper answer on?").text


def test_a_desk_may_be_framed_only_where_it_says_so(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    framed, plain = desk(frame_origins=["https://intranet.skerrow.example"]), desk()
    url = marine[0].service.url
    policies = [
        patient.get(f"{url}/chat/{one.id}").headers["content-security-policy"]
        for one in (framed, plain)
    ]
    assert "frame-ancestors https://intranet.skerrow.example" in policies[0]
    assert "frame-ancestors 'none'" in policies[1]


def test_a_question_goes_to_the_knowledge_base_that_its_line_names(team: TeamSetup) -> None:
    client = team.client
    for name, text in (
        ("Kitchen", "# Menu\n\nThe soup of the day costs 6 crowns. The kitchen closes at 21:00."),
        (
            "Runtime",
            "# Tools\n\nThe drill press runs at 900 turns a minute. The runtime closes at 16:00.",
        ),
    ):
        kb = client.create_kb(name).slug
        client.add_document(kb, text.encode(), f"{kb}.md", wait=True)
    parts = [
        s.DeskKb(kb="kitchen", use_for="meals, soup, prices of food"),
        s.DeskKb(kb="runtime", use_for="tools, drills, machines"),
    ]
    desk = client.create_desk("Both", s.DeskSettings(kbs=parts, evidence_needed=0.0))
    client.publish_desk(desk.id)
    answer = client.ask_desk(desk.id, "What does the soup cost as a meal?")
    assert "6 crowns" in answer.text
    record = client.show_answer(answer.turn_id)
    message = next(
        step for step in record.steps if step.name == "choosing knowledge bases"
    ).details["kbs"]
    assert {row["name"]: row["used"] for row in message} == {"Kitchen": True, "Runtime": False}
    assert {passage.title for passage in record.evidence} == {"Menu"}
