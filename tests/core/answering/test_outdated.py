"""Answers from documents that are not in force."""

from __future__ import annotations

from dataclasses import replace
from datetime import date

import pytest

from fontanel.core.answering import (
    Answer,
    AnswerSettings,
    Finished,
    Outcome,
    Trace,
    Verdict,
    answer,
)
from fontanel.core.answering.phrases import outdated_note, phrases_in
from fontanel.core.embedding.encoder import OnnxEmbedder
from fontanel.core.validity import Outdated, OutdatedReason
from tests.conftest import EMBEDDER
from tests.core.documents import Documents, SimulatedModel

OLD = b"# Crane notice\n\n## Wind\n\nThe quay crane stops at a gust of 45 knots."
NEW = b"# Crane rules\n\n## Wind\n\nThe quay crane stops at a gust of 38 knots."
QUESTION = "At what gust does the quay crane stop?"
REPLACED = Outdated(OutdatedReason.REPLACED, "Crane rules", "doc_new")


@pytest.fixture(scope="module")
def embedder() -> OnnxEmbedder:
    return OnnxEmbedder(EMBEDDER)


def documents(embedder: OnnxEmbedder, *, demoted: bool, **files: bytes) -> Documents:
    """Documents of which those named `old` are replaced."""
    result = Documents(embedder, **files)
    result.passages = [
        replace(passage, outdated=REPLACED, demoted=demoted)
        if passage.title == "Crane notice"
        else passage
        for passage in result.passages
    ]
    return result


def answered(knowledge: Documents, writer: SimulatedModel | None = None) -> Answer:
    settings = AnswerSettings(evidence_needed=0.0)
    events = list(answer(QUESTION, [], knowledge, settings, writer=writer, trace=Trace()))
    finished = events[-1]
    assert isinstance(finished, Finished)
    assert finished.answer.outcome == Outcome.ANSWERED
    return finished.answer


def test_what_is_in_force_is_quoted_and_nothing_contradicts_it(embedder: OnnxEmbedder) -> None:
    result = answered(documents(embedder, demoted=True, old=OLD, new=NEW))
    assert "38 knots" in result.text
    assert "45 knots" not in result.text
    assert result.note == ""


def test_an_outdated_quote_is_marked_and_noted(embedder: OnnxEmbedder) -> None:
    result = answered(documents(embedder, demoted=True, old=OLD))
    assert "45 knots" in result.text
    assert result.citations[0].outdated == REPLACED
    assert result.note == "“Crane notice” has been replaced by “Crane rules”."


def test_documents_that_rank_equally_contradict_each_other(embedder: OnnxEmbedder) -> None:
    result = answered(documents(embedder, demoted=False, old=OLD, new=NEW))
    assert "38 knots" in result.text
    assert "45 knots" in result.text


def test_a_model_is_sent_the_status_of_a_source(embedder: OnnxEmbedder) -> None:
    knowledge = documents(embedder, demoted=True, old=OLD, new=NEW)
    writer = SimulatedModel(text="The quay crane stops at a gust of 38 knots [1].")
    prompt = answered(knowledge, writer).prompt[-1].content
    first, second = prompt.split("<source ")[1:3]
    assert "38 knots" in first
    assert "status=" not in first
    assert 'status="“Crane notice” has been replaced by “Crane rules”."' in second


def test_a_models_statement_that_only_an_outdated_document_supports_is_marked(
    embedder: OnnxEmbedder,
) -> None:
    old = "The quay crane stops at a gust of 45 knots"
    writer = SimulatedModel(text=f"{old} [1].")
    result = answered(documents(embedder, demoted=True, old=OLD), writer)
    (statement,) = result.statements
    assert statement.verdict == Verdict.OUTDATED
    assert statement.reason == "“Crane notice” has been replaced by “Crane rules”."
    assert statement.citations == (1,)
    # A question about what was in force before is answered from it.
    result = answered(documents(embedder, demoted=False, old=OLD), writer)
    assert result.statements[0].verdict == Verdict.SUPPORTED


@pytest.mark.parametrize(
    ("first", "other", "words"),
    [
        (None, None, "“Crane rules” says otherwise:"),
        (
            date(2019, 5, 1),
            date(2024, 3, 1),
            "This is from “Crane notice” (2019-05-01); “Crane rules” (2024-03-01) says otherwise:",
        ),
        (
            None,
            date(2024, 3, 1),
            "This is from “Crane notice”; “Crane rules” (2024-03-01) says otherwise:",
        ),
    ],
)
def test_documents_that_disagree_are_dated(
    embedder: OnnxEmbedder, first: date | None, other: date | None, words: str
) -> None:
    knowledge = documents(embedder, demoted=False, old=OLD, new=NEW)
    dates = {"Crane notice": first, "Crane rules": other}
    knowledge.passages = [
        replace(p, dated=dates[p.title], match=0.9 if p.title == "Crane notice" else 0.5)
        for p in knowledge.passages
    ]
    assert words in answered(knowledge).text
    prompt = answered(knowledge, SimulatedModel(text="38 knots [1].")).prompt[-1].content
    assert prompt.count(' date="') == sum(day is not None for day in dates.values())


@pytest.mark.parametrize("language", ["en", "de", "fr", "es"])
@pytest.mark.parametrize("reason", list(OutdatedReason))
def test_every_reason_is_put_into_words(language: str, reason: OutdatedReason) -> None:
    outdated = Outdated(reason, "New plan", "doc_1", date(2026, 4, 30))
    note = outdated_note(phrases_in(language), "Old plan", outdated)
    assert "Old plan" in note
    assert ("New plan" in note) == (reason == OutdatedReason.REPLACED)
    assert ("2026-04-30" in note) == (reason in (OutdatedReason.EXPIRED, OutdatedReason.NOT_YET))
    assert Outdated.from_dict(outdated.to_dict()) == outdated
