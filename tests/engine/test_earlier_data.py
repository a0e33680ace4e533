"""A data directory made by an earlier version opens, migrates and answers."""

from __future__ import annotations

import tarfile
from pathlib import Path

import pytest
from tests.conftest import ROOT, Service

from fontanel.client import Client

#: A team with a knowledge base of three documents, a published desk and two conversations, made at
#: schema version 8, and its owner's key.
ARCHIVE = ROOT / "tests" / "fixtures" / "data-v0008.tar.gz"
KEY = "fk_tfehm9kuq674pwq55hh3mx9enyftyxbrsxy6vdwj"
QUESTION = "When may a vessel leave the outer berth?"


@pytest.mark.slow
def test_data_of_an_earlier_version_is_used_as_it_is(tmp_path: Path) -> None:
    with tarfile.open(ARCHIVE) as archive:
        archive.extractall(tmp_path, filter="data")
    service = Service(tmp_path / "data").start()
    try:
        with Client(service.url, key=KEY, team="marine-operations") as client:
            kb = client.show_kb("harbour-rules")
            assert (kb.documents, kb.failed, kb.pending) == (3, 0, 0)
            assert kb.passages > 0
            hits = client.search("harbour-rules", QUESTION).hits
            assert any("outer berth" in hit.text for hit in hits)
            [before] = client.list_conversations(kb="harbour-rules")
            [turn] = client.show_conversation(before.id, kb="harbour-rules")
            again = client.ask("harbour-rules", QUESTION)
            assert again.outcome == "answered"
            # The answer may be another one, but rests on the same documents.
            assert turn.text
            assert {c.title for c in turn.citations} & {c.title for c in again.citations}
            for cited in (*turn.citations, *again.citations):
                text = client.document_text("harbour-rules", cited.document_id, cited.revision_id)
                assert text.text[cited.start : cited.end] == cited.quote
            record = client.show_answer(turn.id)
            assert [step.name for step in record.steps][:2] == ["routing", "stand-alone question"]
            assert all(step.details for step in record.steps)
            assert client.ask_desk("harbour-office", QUESTION).outcome == "answered"
    finally:
        service.stop()
