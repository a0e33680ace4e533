"""Desks: drafts, versions, models, links, conversations, feedback, records, usage."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import httpx
import pytest

from fontanel import schemas as s
from fontanel.client import (
    Client,
    Conflict,
    Invalid,
    NotAllowed,
    NotFound,
    NotSignedIn,
    ProblemError,
)
from tests.conftest import Service, TeamSetup, new_team, until
from tests.core.injected import PLANTED, injected

Marine = tuple[TeamSetup, str]
QUESTION = "What is the wind limit for leaving the outer berth?"
GUEST = "a guest's own secret 0001"


@pytest.fixture(scope="module")
def models(service: Service, model_server: str) -> Iterator[str]:
    """Each behaviour of the simulator model server as a model of its name."""
    url = model_server
    with service.operator() as operator:
        for name in (
            "honest",
            "lying",
            "gullible",
            "slow",
            "failing",
            "broken",
            "malformed",
            "limited",
            "busy",
            "empty",
            "whole",
        ):
            operator.create_model(
                s.ModelIn(
                    name=name,
                    url=url,
                    remote=name,
                    price_read=2.0,
                    price_written=8.0,
                    seconds=5,
                    tries=3,
                )
            )
    yield url
    with service.operator() as operator:
        for model in operator.list_models():
            operator.delete_model(model.name)


@pytest.fixture
def desk(marine: Marine) -> Iterator[Callable[..., s.DeskOut]]:
    """Makes published desks of the marine team."""
    team, kb = marine
    made: list[str] = []

    def make(publish: bool = True, **settings: Any) -> s.DeskOut:
        values = s.DeskSettings(kbs=[s.DeskKb(kb=kb)], **settings)
        result = team.client.create_desk(f"Desk {len(made)}", values)
        made.append(result.id)
        if publish:
            team.client.publish_desk(result.id, "first")
        return team.client.show_desk(result.id)

    yield make
    for desk_id in made:
        team.client.delete_desk(desk_id)


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
    changed = client.change_desk(
        result.slug, {"instructions": "Be brief.\nName the quay.", "length": "short"}
    )
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
        marine[0].client.change_desk(result.id, settings)
    assert refused.value.problem.field == field
    assert not marine[0].client.show_desk(result.id).changed


def test_answers_keep_to_length_and_layout(marine: Marine, desk: Callable[..., s.DeskOut]) -> None:
    client, result = marine[0].client, desk()
    question = "How is a crane taken out of service?"
    for layout, begins in (("list", "- "), ("steps", "1. "), ("table", "| ")):
        text = client.ask_desk(
            result.id, question, settings={"layout": layout, "evidence_needed": 0.0}
        ).text
        assert all(
            line.startswith(("- ", "|") if layout != "steps" else tuple("123456789"))
            or line.endswith(":")
            for line in text.split("\n")
            if line
        ), text
        assert begins in text
    lengths = [
        len(client.ask_desk(result.id, QUESTION, settings={"length": length}).text)
        for length in ("short", "medium", "long")
    ]
    assert lengths == sorted(lengths)


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
    assert {statement.verdict for statement in answer.statements} == {"supported"}
    record = client.show_answer(answer.turn_id)
    assert [step.name for step in record.steps] == [
        "routing",
        "stand-alone question",
        "retrieval",
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
        assert (answer.composer, answer.note) == (model, "")
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
    client.change_desk(result.id, {"model": "slow"})
    left = client.stream_desk_answer(result.id, QUESTION, draft=True, idempotency_key="left")
    start = next(left)
    assert isinstance(start, s.StartEvent)
    left.close()  # type: ignore[attr-defined]
    client.change_desk(result.id, {"model": "limited"})
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


def test_guests_come_by_a_link_and_reach_nothing_else(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    team, result = marine[0], desk(audience="link", greeting="Ahoy.")
    link = team.client.make_desk_link(result.id, "Crew room", per_minute=3)
    assert link.url.endswith(f"/chat/{result.id}#{link.secret}")
    assert link.secret not in str(team.client.list_desk_links(result.id))
    guest = Client(team.service.url, link.secret, team.slug, guest=GUEST)
    assert guest.show_chat_desk(result.id).greeting == "Ahoy."
    assert guest.ask_desk(result.id, "Hello").text == "Ahoy."
    answer = guest.ask_desk(result.id, QUESTION)
    assert answer.citations
    context = guest.citation_context(result.id, answer.turn_id, 1)
    assert context.text[context.quote_start : context.quote_end] == answer.citations[0].quote
    guest.give_feedback(result.id, answer.turn_id, helpful=True)
    assert len(guest.list_conversations(desk=result.id)) == 2
    # Another guest by the same link sees none of it.
    other = Client(team.service.url, link.secret, team.slug, guest="another guest 000000001")
    assert other.list_conversations(desk=result.id) == []
    with pytest.raises(NotFound):
        other.citation_context(result.id, answer.turn_id, 1)
    for reach in (
        guest.list_kbs,
        guest.list_desks,
        guest.session,
        lambda: guest.show_answer(answer.turn_id),
    ):
        with pytest.raises(NotSignedIn):
            reach()
    with pytest.raises(NotAllowed):
        guest.ask_desk(result.id, QUESTION, settings={"evidence_needed": 0})
    guest.ask_desk(result.id, QUESTION)
    with pytest.raises(ProblemError, match="3 questions a minute"):
        guest.ask_desk(result.id, QUESTION)
    with pytest.raises(Invalid):
        Client(team.service.url, link.secret, team.slug).list_conversations(desk=result.id)
    team.client.revoke_desk_link(result.id, link.id)
    with pytest.raises(NotSignedIn):
        guest.list_conversations(desk=result.id)


def test_a_link_opens_only_its_own_desk_and_only_while_that_is_meant(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    team, open_desk, closed = marine[0], desk(audience="link"), desk()
    link = team.client.make_desk_link(open_desk.id, "Open")
    guest = Client(team.service.url, link.secret, team.slug, guest=GUEST)
    with pytest.raises(NotSignedIn):
        guest.show_chat_desk(closed.id)
    elsewhere = new_team(team.service)
    with pytest.raises(NotSignedIn):
        Client(team.service.url, link.secret, elsewhere.slug, guest=GUEST).list_conversations(
            desk=open_desk.id
        )
    with pytest.raises(NotFound):
        elsewhere.client.show_chat_desk(open_desk.id)
    shut = team.client.make_desk_link(closed.id, "Shut")
    with pytest.raises(NotSignedIn):
        Client(team.service.url, shut.secret, team.slug, guest=GUEST).show_chat_desk(closed.id)


def test_a_desk_may_be_framed_only_where_it_says_so(
    marine: Marine, desk: Callable[..., s.DeskOut]
) -> None:
    framed, plain = desk(frame_origins=["https://intranet.skerrow.example"]), desk()
    url = marine[0].service.url
    policies = [
        httpx.get(f"{url}/chat/{d.id}").headers["content-security-policy"] for d in (framed, plain)
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
    usage = client.usage("composer")
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


def test_old_conversations_go_by_the_team_s_wish_and_use_stays(team: TeamSetup) -> None:
    assert team.client.change_team(s.TeamChange(kept_days=30)).kept_days == 30
    assert team.client.change_team(s.TeamChange(name="Still here")).kept_days == 30
    assert team.client.change_team(s.TeamChange(kept_days=None)).kept_days is None
