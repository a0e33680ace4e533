"""Tuning search: operators, corrections, near-duplicates, boosts, explanations."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise

import pytest

from fontanel.client import Invalid
from fontanel.core.answering.composing.judging import RANKING, scaled
from tests import patient
from tests.conftest import TeamSetup

Marine = tuple[TeamSetup, str]


def test_operators_narrow_words_and_meaning_alike(marine: Marine) -> None:
    team, kb = marine
    hits = team.client.search(kb, 'wind limit "outer berth"', limit=20, per_document=20).hits
    assert hits
    for hit in hits:
        text = " ".join([hit.title, *hit.locator.heading_path, *hit.text.split()]).lower()
        assert "outer berth" in text, text
    without = team.client.search(kb, "wind limit -crane", limit=20, per_document=20).hits
    assert without
    assert all("crane" not in hit.text.lower() for hit in without)
    plain = team.client.search(
        kb, "wind limit -crane", limit=20, per_document=20, operators=False
    ).hits
    assert any("crane" in hit.text.lower() for hit in plain)


def test_a_slip_is_corrected_and_said(marine: Marine) -> None:
    team, kb = marine
    result = team.client.search(kb, "pliotage", mode="lexical")
    assert "pilotag" in next(iter(result.corrected.values()))
    assert result.hits


def test_neighbours_can_be_shown_as_one(marine: Marine) -> None:
    team, kb = marine
    question = "pilotage exemption certificate"
    apart = team.client.search(kb, question, limit=30, per_document=30).hits
    joined = team.client.search(kb, question, limit=30, per_document=30, join_neighbours=True).hits
    assert all(hit.neighbours == [] for hit in apart)
    together = [hit for hit in joined if hit.neighbours]
    assert together
    for hit in together:
        text = team.client.document_text(kb, hit.document_id).text
        for beside in hit.neighbours:
            assert text[beside.start : beside.end] == beside.text
            # Nothing but white space, or what both repeat, stands between one and the next.
            first, last = sorted([(hit.start, hit.end), (beside.start, beside.end)])
            between = text[first[1] : last[0]].strip()
            assert between == "" or len(hit.neighbours) == 2


def test_an_explanation_adds_up(marine: Marine) -> None:
    team, kb = marine
    result = team.client.search(
        kb, "wind limit for departure from the outer berth", explain=True, keyword_weight=0.3
    )
    for hit in result.hits:
        why = hit.explanation
        assert why is not None
        assert (
            why.keyword_part + why.semantic_part + why.document_part
        ) * why.boost == pytest.approx(hit.score, abs=3e-4)
        assert sum(term.score for term in why.terms) == pytest.approx(hit.lexical, abs=1e-2)
        for term in why.terms:
            assert term.title + term.heading + term.body + term.about == pytest.approx(
                term.score, abs=1e-3
            )
            assert hit.terms[term.term] == term.score
    assert max(hit.explanation.keyword_part for hit in result.hits if hit.explanation) <= 0.3 + 1e-4
    assert result.scored >= len(result.hits)
    assert team.client.search(kb, "wind").hits[0].explanation is None


def test_a_deep_search_ranks_by_evidence_and_shows_it(marine: Marine) -> None:
    team, kb = marine
    question = "How strong may the wind be before ships must leave the outer berth?"
    fast = team.client.search(kb, question)
    assert fast.depth == "fast"
    assert {hit.relevance for hit in fast.hits} == {None}
    deep = team.client.search(kb, question, depth="deep", limit=5)
    assert deep.depth == "deep"
    assert len(deep.hits) == 5
    shown = [hit.relevance for hit in deep.hits]
    assert all(relevance is not None and 0 < relevance < 1 for relevance in shown)
    # Match and evidence rank together.
    ranked = [
        hit.match + RANKING * scaled(math.log(hit.relevance / (1 - hit.relevance)))
        for hit in deep.hits
        if hit.relevance
    ]
    assert all(first >= second - 0.01 for first, second in pairwise(ranked))


def test_a_deep_search_in_another_language_stays_fast(marine: Marine) -> None:
    team, kb = marine
    result = team.client.search(kb, "Wann darf der Hafen nicht verlassen werden?", depth="deep")
    assert result.depth == "fast"
    assert result.hits


class TestPreferences:
    NOTICE = (
        "# Lock notice\n\nThe lock is closed on Monday from six to ten for the yearly inspection of"
        " its gates."
    )

    def test_copies_show_once_with_where_else_they_stand(self, team: TeamSetup, kb: str) -> None:
        for name in ("one.md", "two.md", "three.md"):
            team.client.add_document(kb, self.NOTICE.encode(), name, wait=True)
        (hit,) = team.client.search(kb, "when is the lock closed").hits
        assert {hit.document_name, *(other.document_name for other in hit.also)} == {
            "one.md",
            "two.md",
            "three.md",
        }

    def test_a_tag_or_what_is_newer_can_be_preferred(self, team: TeamSetup, kb: str) -> None:
        add = team.client.add_document
        add(
            kb,
            b"# Fees\n\nThe mooring fee is twelve crowns a day for boats.",
            "old.md",
            {"kind": "rule"},
            wait=True,
        )
        add(
            kb,
            b"# Charges\n\nThe mooring fee is fifteen crowns a day for all boats.",
            "new.md",
            wait=True,
        )
        raised = team.client.search(
            kb, "mooring fee a day", boost={"kind=rule": 5.0}, explain=True
        ).hits
        assert raised[0].document_name == "old.md"
        assert raised[0].explanation is not None
        assert raised[0].explanation.boost == 5.0
        newer = team.client.search(kb, "mooring fee a day", prefer_newer=True, explain=True).hits
        boosts = {hit.document_name: hit.explanation.boost for hit in newer if hit.explanation}
        assert 1.0 < boosts["old.md"] <= boosts["new.md"] <= 1.15

    @pytest.mark.parametrize("boost", [{"kind": 2.0}, {"kind=rule": 0.0}, {"kind=rule": 1e9}])
    def test_a_boost_that_makes_no_sense_is_refused(
        self, marine: Marine, boost: dict[str, float]
    ) -> None:
        team, kb = marine
        with patient.Client(headers={"Authorization": f"Bearer {team.key}"}) as http:
            url = f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}/search"
            response = http.post(url, json={"question": "x", "boost": boost})
        assert response.status_code == 422
        assert response.json()["field"].startswith("boost")
        with pytest.raises((Invalid, ValueError)):
            team.client.search(kb, "x", boost=boost)


def test_many_who_search_at_once_each_find_what_one_alone_finds(marine: Marine) -> None:
    team, kb = marine
    questions = [
        "wind limit outer berth",
        "quay crane gust",
        "when does the lock open",
        "pilotage exemption",
        "buoy light",
    ]
    alone = {
        question: [hit.passage_id for hit in team.client.search(kb, question).hits]
        for question in questions
    }
    with ThreadPoolExecutor(16) as pool:
        asked = [questions[n % len(questions)] for n in range(80)]
        results = list(pool.map(lambda question: team.client.search(kb, question), asked))
    for question, result in zip(asked, results, strict=True):
        assert [hit.passage_id for hit in result.hits] == alone[question]
        assert not result.keyword_only
