"""A data directory made by an earlier version opens, migrates and answers."""

from __future__ import annotations

import getpass
import json
import sqlite3
import subprocess
import sys
import tarfile
from contextlib import closing
from pathlib import Path

import pytest
from tests.conftest import ROOT, Service

from fontanel.client import Client

#: A team with a knowledge base of three documents, a published desk and two conversations, made at
#: schema version 8, and its owner's key.
ARCHIVE = ROOT / "tests" / "fixtures" / "data-v0008.tar.gz"
#: A team with a knowledge base of one document and one answer, made at schema version 30;
#: `account.json` in it has its owner and their key.
RECENT = ROOT / "tests" / "fixtures" / "data-v0030.tar.gz"
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


def unpacked(archive: Path, target: Path) -> Path:
    with tarfile.open(archive) as file:
        file.extractall(target, filter="data")
    return target / "data"


def rows_of(database: Path) -> dict[str, list[tuple[object, ...]]]:
    """Return everything in a database."""
    with closing(sqlite3.connect(database)) as records:
        names = records.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall()
        return {name: records.execute(f'SELECT * FROM "{name}"').fetchall() for (name,) in names}


def test_an_upgrade_keeps_what_was_there_and_can_be_undone(tmp_path: Path) -> None:
    data = unpacked(RECENT, tmp_path)
    before = rows_of(data / "fontanel.db")
    account = json.loads((data / "account.json").read_text())
    service = Service(data).start()
    try:
        with Client(service.url, account["key"], account["team"]) as client:
            assert client.show_answer(account["turn"]).text == account["answer"]
            again = client.ask("harbour-rules", "What is the wind limit at the outer berth?")
            assert (again.outcome, again.text) == ("answered", account["answer"])
        with Client(service.url, team=account["team"]) as owner:
            owner.sign_in(account["email"], account["password"])
    finally:
        service.stop()
    assert rows_of(data / "fontanel.db")["alembic_version"] != [("0030",)]

    def upgrade(*arguments: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "fontanel.cli", "upgrade", *arguments, "--data", str(data)]
        return subprocess.run(command, capture_output=True, text=True)

    assert "0030" in upgrade("list").stdout
    undone = upgrade("undo", "--yes")
    assert undone.returncode == 0, undone.stderr
    assert rows_of(data / "fontanel.db") == before
    assert "has no copy" in upgrade("undo", "--yes").stderr
    # What was done on the machine is in the audit log, once, even if it is found twice.
    [left] = (data / "unlogged").iterdir()
    kept = left.read_bytes()
    for _ in range(2):
        left.write_bytes(kept)
        Service(data).start().stop()
        assert not left.exists()
    with closing(sqlite3.connect(data / "fontanel.db")) as records:
        query = "SELECT actor_kind, who FROM audit_entries WHERE action = 'upgrade.undo'"
        [(kind, who)] = records.execute(query).fetchall()
    assert (kind, json.loads(who)) == ("machine", {"name": getpass.getuser()})


def test_undoing_needs_the_service_to_be_stopped(tmp_path: Path) -> None:
    data = unpacked(RECENT, tmp_path)
    service = Service(data).start()
    command = [
        sys.executable,
        "-m",
        "fontanel.cli",
        "upgrade",
        "undo",
        "--yes",
        "--data",
        str(data),
    ]
    refused = subprocess.run(command, capture_output=True, text=True)
    service.stop()
    assert refused.returncode != 0
    assert "Another process uses" in refused.stderr
