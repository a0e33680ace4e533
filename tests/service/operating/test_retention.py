"""Retention per team: what is deleted when, and what stays."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Client, Invalid, NotFound
from tests.conftest import Service, TeamSetup, new_team, until

OLD, NEW = "The crane stops at 20 knots.", "The crane stops at 25 knots."
QUESTION = "At how many knots does the crane stop?"


@pytest.fixture
def own(tmp_path: Path) -> Iterator[Service]:
    started = Service(tmp_path / "data").start()
    yield started
    started.stop()


def write(client: Client, name: str, text: str) -> None:
    client.add_document("rules", f"# Cranes\n\n{text}\n".encode(), name, wait=True)


def age(service: Service, days: int) -> None:
    """Move everything that the service has into the past, and start it again."""
    service.stop()
    with sqlite3.connect(service.data / "fontanel.db") as raw:
        for table, column in (
            ("turns", "created_at"),
            ("conversations", "changed_at"),
            ("revisions", "created_at"),
        ):
            raw.execute(f"UPDATE {table} SET {column} = datetime({column}, '-{days} days')")
    for path in (service.data / "blobs").glob("*/*"):
        os.utime(path, (0, 0))
    service.start()


def bytes_used(client: Client) -> int:
    return next(quota.used for quota in client.quotas().quotas if quota.name == "bytes") or 0


def connect(team: TeamSetup) -> Client:
    return Client(team.service.url, key=team.key, team=team.slug)


def test_each_kind_is_kept_for_its_own_time(own: Service) -> None:
    team = new_team(own)
    client = team.client
    client.create_kb("Rules")
    write(client, "cranes.md", OLD)
    answer = client.ask("rules", QUESTION)
    assert "20 knots" in answer.text
    write(client, "cranes.md", NEW)
    before = bytes_used(client)
    changed = client.change_team(s.TeamChange(records_kept_days=30, originals_kept_days=30))
    assert (changed.records_kept_days, changed.kept_days) == (30, None)
    revisions = client.list_revisions("rules", "cranes.md")
    first = next(one for one in revisions if one.number == 1)

    age(own, 20)
    client = connect(team)
    assert client.show_answer(answer.turn_id).steps
    assert client.original("rules", "cranes.md", revision=first.id)

    age(own, 20)
    client = connect(team)
    until(lambda: client.show_answer(answer.turn_id).record_deleted_at)
    record = client.show_answer(answer.turn_id)
    assert (record.steps, record.prompt, record.raw, record.evidence) == ([], [], "", [])
    assert record.text == answer.text
    assert record.citations[0].quote == answer.citations[0].quote
    with pytest.raises(NotFound, match="was deleted on"):
        client.original("rules", "cranes.md", revision=first.id)
    # The text of the earlier revision is there, for its citation, and so is the newest original.
    assert OLD in client.document_text("rules", "cranes.md", revision=first.id).text
    assert NEW.encode() in client.original("rules", "cranes.md")
    until(lambda: not (own.data / "blobs" / first.sha256[:2] / first.sha256).exists())
    assert bytes_used(client) == before - first.size
    assert client.list_conversations(kb="rules")
    client.change_team(s.TeamChange(kept_days=30))
    age(own, 0)
    client = connect(team)
    until(lambda: not client.list_conversations(kb="rules"))
    with own.operator() as operator:
        states = {one.check: one.state for one in operator.examine()}
    assert states["documents"] == "ok"


def test_the_same_file_in_use_elsewhere_is_not_deleted(own: Service) -> None:
    team = new_team(own)
    client = team.client
    client.create_kb("Rules")
    write(client, "a.md", OLD)
    write(client, "b.md", OLD)
    write(client, "a.md", NEW)
    client.change_team(s.TeamChange(originals_kept_days=1))
    age(own, 2)
    client = connect(team)

    def first_deleted() -> bool:
        revisions = client.list_revisions("rules", "a.md")
        return any(one.original_deleted_at for one in revisions)

    until(first_deleted)
    assert OLD.encode() in client.original("rules", "b.md")


def test_days_have_bounds(team: TeamSetup) -> None:
    for days in (0, 3651):
        with pytest.raises(Invalid):
            team.client.change_team(s.TeamChange.model_construct(records_kept_days=days))
    changed = team.client.change_team(s.TeamChange(records_kept_days=5))
    again = team.client.change_team(s.TeamChange(records_kept_days=None))
    assert (changed.records_kept_days, again.records_kept_days) == (5, None)
