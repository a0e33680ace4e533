"""`kill -9` at every durable step: nothing lost, nothing done twice."""

from __future__ import annotations

import os
import sqlite3
import time
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Client, Unreachable
from fontanel.engine.runtime.fault_points import POINTS
from tests.conftest import STORM, Service, TeamSetup, new_team, until


def note(number: int) -> bytes:
    return (
        f"# Note {number}\n\nThe duty officer wrote note number {number} about buoy"
        f" {number * 7}.\n\n{STORM.decode()}".encode()
    )


def reconnect(team: TeamSetup) -> Client:
    return Client(team.service.url, team.key, team.slug, retry_seconds=0)


def assert_each_once(client: Client, kb: str, data: Path, names: set[str]) -> None:
    """Assert that each document is indexed, with its passages once in the index."""
    documents = {document.name: document for document in client.list_documents(kb)}
    assert documents.keys() == names
    for document in documents.values():
        result = client.wait_for_document(kb, document.id, seconds=120)
        assert result.state == "indexed", result.error
        passages = list(client.list_passages(kb, document.id))
        assert [passage.ordinal for passage in passages] == list(
            range(result.revision.passages or 0)
        )
        assert result.revision.number == 1
    hits = client.search(
        kb, "duty officer wrote note", mode="lexical", limit=100, per_document=100
    ).hits
    assert len({hit.passage_id for hit in hits}) == len(hits)
    with sqlite3.connect(data / "fontanel.db") as db:
        named = {row[0] for row in db.execute("SELECT id FROM segments")}
        jobs = db.execute(
            "SELECT count(*) FROM jobs WHERE state IN ('waiting', 'running')"
        ).fetchone()[0]
    assert jobs == 0
    on_disk = {path.name for path in (data / "editions").glob("*/*")}
    assert named <= on_disk


def test_two_hundred_files_survive_kills_of_the_service_and_its_workers(tmp_path: Path) -> None:
    service = Service(tmp_path / "data").start()
    team = new_team(service)
    kb = team.client.create_kb("Notes").slug
    names = {f"note-{number}.md" for number in range(200)}
    for number in range(200):
        team.client.add_document(kb, note(number), f"note-{number}.md")
    for _ in range(3):
        children = service.children()
        service.kill()
        for pid in children:
            wait_until_gone(pid)
        service.start()
    # A worker that dies under the service is replaced.
    for pid in service.children():
        os.kill(pid, 9)
    client = reconnect(team)
    assert_each_once(client, kb, service.data, names)
    answer = client.ask(kb, "What did the duty officer write about buoy 1393?")
    assert answer.citations[0].title == "Note 199"
    assert service.stop() == 0


def wait_until_gone(pid: int) -> None:
    """Worker processes go with their parent, even when it is killed."""
    deadline = time.monotonic() + 10
    while (
        Path(f"/proc/{pid}/stat").exists()
        and Path(f"/proc/{pid}/stat").read_text().split()[2] != "Z"
    ):
        assert time.monotonic() < deadline, f"worker {pid} outlived the service"
        time.sleep(0.02)


@pytest.mark.parametrize("point", POINTS)
def test_a_kill_at_each_durable_step_loses_nothing(tmp_path: Path, point: str) -> None:
    service = Service(tmp_path / "data").start()
    team = new_team(service)
    kb = team.client.create_kb("Notes").slug
    service.stop()
    count = "1" if point != "segment_written" else "2"
    service.start(FONTANEL_FAULT=f"{point}:{count}")
    names: set[str] = set()
    client = reconnect(team)
    for number in range(12):
        try:
            client.add_document(kb, note(number), f"note-{number}.md", wait=True)
        except Unreachable:
            break
        names.add(f"note-{number}.md")
    assert service.process is not None
    assert service.process.wait(timeout=60) == -9, "the fault point was never passed"
    service.start()
    client = reconnect(team)
    for number in range(12):
        client.add_document(kb, note(number), f"note-{number}.md")
    assert_each_once(client, kb, service.data, {f"note-{number}.md" for number in range(12)})
    service.stop()


def three_notes(service: Service) -> tuple[TeamSetup, str, set[str]]:
    """A team with a knowledge base of three notes, each in a segment of its own."""
    team = new_team(service)
    kb = team.client.create_kb("Notes").slug
    names = [f"note-{number}.md" for number in range(3)]
    for number, name in enumerate(names):
        team.client.add_document(kb, note(number), name, wait=True)
    return team, kb, set(names)


def test_a_lost_or_damaged_segment_is_rebuilt_by_itself(tmp_path: Path) -> None:
    service = Service(tmp_path / "data").start()
    team, kb, names = three_notes(service)
    for damage in ("lose", "cut short"):
        service.stop()
        segment = next((service.data / "editions").glob("*/words_*"))
        if damage == "lose":
            segment.unlink()
        else:
            segment.write_bytes(segment.read_bytes()[:100])
        service.start()
        assert_each_once(reconnect(team), kb, service.data, names)
    service.stop()


def test_a_byte_that_changed_in_a_segment_is_found_and_mended(tmp_path: Path) -> None:
    service = Service(tmp_path / "data").start()
    team, kb, names = three_notes(service)
    service.stop()
    segment = next((service.data / "editions").glob("*/words_*"))
    data = bytearray(segment.read_bytes())
    data[len(data) * 3 // 4] ^= 0x40
    segment.write_bytes(data)
    service.start()

    def named() -> bool:
        with sqlite3.connect(service.data / "fontanel.db") as db:
            return bool(
                db.execute("SELECT 1 FROM segments WHERE id = ?", (segment.name,)).fetchone()
            )

    until(lambda: not named())
    assert_each_once(reconnect(team), kb, service.data, names)
    service.stop()


def test_a_second_service_on_the_same_data_is_refused(tmp_path: Path) -> None:
    service = Service(tmp_path / "data").start()
    with pytest.raises(AssertionError, match="Another process uses"):
        Service(tmp_path / "data").start()
    assert service.stop() == 0


def test_passwords_keys_and_conversations_outlive_a_restart(tmp_path: Path) -> None:
    service = Service(tmp_path / "data").start()
    team = new_team(service)
    kb = team.client.create_kb("Notes").slug
    team.client.add_document(kb, STORM, "storm-plan.md", wait=True)
    conversation = team.client.ask(kb, "At what gust does the quay crane stop?").conversation_id
    password = service.password
    service.stop()
    service.start()
    assert service.password == password, "an operator was made twice"
    client = reconnect(team)
    assert [turn.question for turn in client.show_conversation(conversation, kb=kb)] == [
        "At what gust does the quay crane stop?"
    ]
    assert client.search(kb, "crane").hits
    service.stop()


def test_expired_throwaways_vanish(tmp_path: Path) -> None:
    service = Service(tmp_path / "data").start()
    team = new_team(service)
    tried = team.client.create_kb("Try", temporary=True)
    team.client.add_document(tried.id, STORM, "storm-plan.md", wait=True)
    service.stop()
    with sqlite3.connect(service.data / "fontanel.db") as db:
        db.execute("UPDATE kbs SET expires_at = '2020-01-01 00:00:00.000000'")
    service.start()
    client = reconnect(team)
    deadline = time.monotonic() + 30
    while client.list_kbs():
        assert time.monotonic() < deadline
        time.sleep(0.05)
    assert not list((service.data / "editions").iterdir())
    service.stop()


def test_an_answer_that_a_kill_breaks_off_is_shown_as_such(
    tmp_path: Path, model_server: str
) -> None:
    service = Service(tmp_path / "data").start()
    team = new_team(service)
    kb = team.client.create_kb("Notes").slug
    team.client.add_document(kb, STORM, "storm.md", wait=True)
    with service.operator() as operator:
        operator.create_model(s.ModelIn(name="slow", url=model_server, remote="slow"))
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=kb)], model="slow", evidence_needed=0.0)
    desk = team.client.create_desk("Storm", settings)
    team.client.publish_desk(desk.id)
    events = team.client.stream_desk_answer(desk.id, "At what gust does the quay crane stop?")
    start = next(events)
    assert isinstance(start, s.StartEvent)
    while not isinstance(next(events), s.PieceEvent):
        pass
    service.kill()
    with pytest.raises(Unreachable):
        list(events)
    service.start()
    client = reconnect(team)
    turn = client.show_conversation(start.conversation_id, desk=desk.id)[0]
    assert (turn.state, turn.outcome, turn.question) == (
        "interrupted",
        "unfinished",
        start.question,
    )
    again = client.ask_desk(desk.id, turn.question, start.conversation_id, settings={"model": None})
    assert again.citations
    assert [t.state for t in client.show_conversation(start.conversation_id, desk=desk.id)] == [
        "interrupted",
        "done",
    ]
    assert service.stop() == 0
