"""Search, answers, conversations, health, problems."""

from __future__ import annotations

import json

import pytest

from fontanel.client import Client, Invalid, NotFound, NotSignedIn
from fontanel.core.embedding.model_file import NAME
from fontanel.schemas import CitationEvent, EvidenceEvent, FinishEvent, PieceEvent, StartEvent
from tests import patient
from tests.conftest import STORM, Service, TeamSetup

Marine = tuple[TeamSetup, str]


def test_search_gives_passages_with_scores_places_and_marks(marine: Marine) -> None:
    team, kb = marine
    result = team.client.search(kb, "wind limit for departure from the outer berth")
    # The notice of 2019 that the plan superseded says it in nearly the same words.
    best = next(hit for hit in result.hits[:2] if hit.document_name == "storm-plan.pdf")
    assert best.locator.page == 1
    assert "Departure limits" in best.text
    assert 0.5 < best.match <= 1
    assert best.similarity
    assert {best.text[span.start : span.end].lower() for span in best.highlights} >= {
        "outer",
        "berth",
        "limit",
        "wind",
    }
    assert [hit.score for hit in result.hits] == sorted(
        (hit.score for hit in result.hits), reverse=True
    )
    text = team.client.document_text(kb, best.document_id, best.revision_id).text
    assert text[best.start : best.end] == best.text


@pytest.mark.parametrize("mode", ["lexical", "vector", "hybrid"])
def test_each_mode_finds_in_its_own_way(marine: Marine, mode: str) -> None:
    team, kb = marine
    hits = team.client.search(kb, "DG-4", mode=mode).hits  # type: ignore[arg-type]
    if mode == "vector":
        similarities = [hit.similarity or 0.0 for hit in hits]
        assert similarities == sorted(similarities, reverse=True)
    else:
        assert hits[0].document_name == "dangerous-goods.docx"
    assert all((hit.similarity is None) == (mode == "lexical") for hit in hits)


def test_search_keeps_to_filters_and_counts(marine: Marine) -> None:
    team, kb = marine
    hits = team.client.search(
        kb, "crane", limit=3, documents=["crane-safety.docx"], per_document=2
    ).hits
    assert [hit.document_name for hit in hits] == ["crane-safety.docx"] * 2
    nothing = team.client.search(
        kb, "crane", tags={"year": "1999"}, documents=["crane-safety.docx", "cranes.docx"]
    )
    assert (nothing.hits, nothing.unmatched) == ([], ["year=1999", "cranes.docx"])
    assert team.client.search(kb, "crane", documents=["crane-safety.docx"]).unmatched == []
    assert len(team.client.search(kb, "the harbour", limit=20).hits) == 20


@pytest.mark.parametrize("limit", [0, 101, -1])
def test_impossible_counts_are_refused(marine: Marine, limit: int) -> None:
    team, kb = marine
    with patient.Client(headers={"Authorization": f"Bearer {team.key}"}) as http:
        url = f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}/search"
        response = http.post(url, json={"question": "x", "limit": limit})
    assert response.status_code == 422
    assert response.json()["field"] == "limit"


def test_an_answer_cites_the_very_words(marine: Marine) -> None:
    team, kb = marine
    answer = team.client.ask(kb, "At what gust is the quay crane pinned?")
    assert answer.outcome == "answered"
    assert "44 knots" in answer.text
    for citation in answer.citations:
        text = team.client.document_text(kb, citation.document_id, citation.revision_id).text
        assert text[citation.start : citation.end] == citation.quote
        assert 0 <= citation.answer_start < citation.answer_end <= len(answer.text)
        assert citation.support >= 0.8
    assert set(answer.seconds) == {"evidence", "first", "total"}


def test_events_stream_in_order_and_end_with_the_json_answer(marine: Marine) -> None:
    team, kb = marine
    events = list(team.client.stream_answer(kb, "At what gust is the quay crane pinned?"))
    assert isinstance(events[0], StartEvent)
    assert isinstance(events[1], EvidenceEvent)
    assert isinstance(events[-1], FinishEvent)
    pieces = [event.text for event in events if isinstance(event, PieceEvent)]
    cited = [event.citation for event in events if isinstance(event, CitationEvent)]
    plain = team.client.ask(kb, "At what gust is the quay crane pinned?")
    assert "".join(pieces) == events[-1].answer.text == plain.text
    assert cited == events[-1].answer.citations == plain.citations


def test_what_the_documents_do_not_say_is_declined_with_what_is_near(marine: Marine) -> None:
    team, kb = marine
    answer = team.client.ask(kb, "Which wine goes well with smoked herring?")
    assert (answer.outcome, answer.citations) == ("declined", [])
    assert "do not answer" in answer.text
    assert answer.evidence


def test_before_there_are_documents_the_answer_says_so(team: TeamSetup, kb: str) -> None:
    assert "nothing to answer from" in team.client.ask(kb, "When does the lock open?").text


def test_a_follow_up_leans_on_the_turn_before(marine: Marine) -> None:
    team, kb = marine
    first = team.client.ask(kb, "What is the bollard pull of the tug Brawn?")
    second = team.client.ask(kb, "And how many people are in its crew?", first.conversation_id)
    assert second.conversation_id == first.conversation_id
    assert "Brawn" in second.standalone
    assert "crew of five" in second.text
    turns = team.client.show_conversation(first.conversation_id, kb=kb)
    assert [turn.number for turn in turns] == [1, 2]
    assert turns[1].request_id == second.request_id
    assert turns[1].evidence


def test_an_elliptic_follow_up_is_shown_as_a_whole_question(marine: Marine) -> None:
    team, kb = marine
    first = team.client.ask(kb, "What is the wind limit for leaving the outer berth?")
    second = team.client.ask(kb, "And the ferry berth?", first.conversation_id)
    assert second.standalone == "What is the wind limit for leaving the ferry berth?"
    third = team.client.ask(kb, "Why is that?", first.conversation_id)
    assert third.standalone == f"Why is that? (following on from: {second.standalone})"


def test_rows_of_a_long_table_are_counted_exactly(team: TeamSetup, kb: str) -> None:
    rows = "".join(f"Gate {number},{number * 3} m\n" for number in range(1, 201))
    team.client.add_document(kb, f"Gate,Width\n{rows}".encode(), "gates.csv", wait=True)
    answer = team.client.ask(kb, "How many gates are wider than 450 m?")
    assert answer.text.startswith("50 of the 200 in the table: Gate 151 (453 m), Gate 152 (456 m)")
    assert "and 36 more." in answer.text
    assert len(answer.citations) == 14
    assert [citation.quote for citation in answer.citations[:2]] == [
        "Gate 151\t453 m",
        "Gate 152\t456 m",
    ]
    declined = team.client.ask(kb, "How many gates are wider than 450 tonnes?")
    assert declined.outcome == "declined"
    assert "“Width” is in m." in declined.text


def test_conversations_belong_to_their_asker(marine: Marine) -> None:
    team, kb = marine
    mine = team.client.ask(kb, "When does Tangle Lock work in June?").conversation_id
    with team.with_role("owner") as colleague:
        assert mine not in [item.id for item in colleague.list_conversations(kb=kb)]
        for call in (
            colleague.show_conversation,
            colleague.delete_conversation,
            colleague.export_conversation,
        ):
            with pytest.raises(NotFound):
                call(mine, kb=kb)
        with pytest.raises(NotFound):
            colleague.rename_conversation(mine, "Mine now", kb=kb)
        with pytest.raises(NotFound):
            colleague.ask(kb, "And on Sundays?", mine)
    assert team.client.rename_conversation(mine, "The lock", kb=kb).title == "The lock"
    assert [
        item.id for item in team.client.list_conversations(kb=kb, text="lock work in june")
    ] == [mine]
    assert (
        json.loads(team.client.export_conversation(mine, "json", kb=kb))["conversation"]["title"]
        == "The lock"
    )
    with pytest.raises(ValueError, match="one of the two"):
        team.client.list_conversations()
    team.client.delete_conversation(mine, kb=kb)
    assert mine not in [item.id for item in team.client.list_conversations(kb=kb)]


def test_small_talk_asks_no_documents(marine: Marine) -> None:
    team, kb = marine
    answer = team.client.ask(kb, "Hello there!")
    assert (answer.outcome, answer.evidence) == ("small_talk", [])


def test_questions_have_a_length(marine: Marine) -> None:
    team, kb = marine
    with patient.Client(headers={"Authorization": f"Bearer {team.key}"}) as http:
        url = f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}/ask"
        for question in ("", "x" * 2001):
            assert http.post(url, json={"question": question}).status_code == 422
        assert (
            http.post(
                url, content=b"{not json", headers={"Content-Type": "application/json"}
            ).status_code
            == 422
        )
        assert http.post(url, json={"question": "x", "surprise": 1}).json()["field"] == "surprise"


def test_health_and_metrics_tell_how_it_stands(service: Service, marine: Marine) -> None:
    team, kb = marine
    team.client.ask(kb, "When does Tangle Lock work?")
    assert patient.get(f"{service.url}/health/live").json() == {"status": "ok"}
    ready = patient.get(f"{service.url}/health/ready").json()
    assert ready["embedder"] == NAME
    metrics = patient.get(f"{service.url}/metrics").text
    assert 'fontanel_answers_total{outcome="answered"}' in metrics
    assert metrics.rstrip().endswith("# EOF")


def test_unknown_addresses_and_methods_are_problems(service: Service) -> None:
    for method, path, status in (("GET", "/api/v1/nothing", 404), ("DELETE", "/api/v1/teams", 405)):
        response = patient.request(method, service.url + path)
        assert response.status_code == status
        assert response.headers["content-type"] == "application/problem+json"
        assert response.json()["request_id"] == response.headers["x-request-id"]


def test_the_log_has_no_secrets(service: Service, team: TeamSetup) -> None:
    with pytest.raises(NotSignedIn):
        Client(service.url, "fk_" + "2" * 40, team.slug).list_kbs()
    log = service.log()
    for secret in (team.key, team.password, service.password, "fk_" + "2" * 40):
        assert secret not in log


def test_without_models_keywords_work_and_it_is_said(
    tmp_path_factory: pytest.TempPathFactory,
) -> None:
    folder = tmp_path_factory.mktemp("words")
    none = str(folder / "none")
    settings = {"FONTANEL_EMBEDDER": none, "FONTANEL_EVIDENCE": none}
    service = Service(folder / "data", settings).start()
    try:
        from tests.conftest import new_team

        team = new_team(service)
        kb = team.client.create_kb("Words").slug
        assert (
            team.client.add_document(kb, STORM, "storm-plan.md", wait=True).document.state
            == "indexed"
        )
        result = team.client.search(kb, "quay crane gust", mode="vector")
        assert result.keyword_only
        assert result.mode == "lexical"
        assert result.hits
        assert team.client.search(kb, "When does the crane stop?", depth="deep").depth == "fast"
        assert "38 knots" in team.client.ask(kb, "At what gust does the quay crane stop?").text
        health = patient.get(f"{service.url}/health/ready").json()
        assert "use keywords only" in health["note"]
        assert "No evidence model" in health["note"]
        assert health["evidence"] is None
    finally:
        service.stop()


def test_a_reader_s_bad_values_are_refused_before_they_are_sent(marine: Marine) -> None:
    team, kb = marine
    with pytest.raises(ValueError, match="question"):
        team.client.search(kb, "")
    with pytest.raises((Invalid, NotFound)):
        team.client.search("no-such-kb", "x")


def test_a_hit_is_located_at_the_section_that_matches(team: TeamSetup, kb: str) -> None:
    text = b"# Lock\n\n## Hours\n\nIt opens at six.\n\n## Signals\n\nTwo green lights mean enter.\n"
    team.client.add_document(kb, text, "lock.md", wait=True)
    (hit,) = team.client.search(kb, "green lights").hits
    assert hit.locator.heading_path == ["Lock", "Signals"]
    (hit,) = team.client.search(kb, "when it opens").hits
    assert hit.locator.heading_path == ["Lock", "Hours"]
