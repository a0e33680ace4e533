"""The audit log: every change, refusal and export, by whom."""

from __future__ import annotations

import csv
import json
import socket
import sqlite3
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, BinaryIO

import httpx
import pytest

from fontanel.client import AuditFilter, Client, NotAllowed, NotFound, NotSignedIn
from fontanel.core.auditing import START, verify
from fontanel.records.audit import Acting, acting_as, trim, write_entry
from fontanel.records.tables import Team
from fontanel.records.unit_of_work import Records
from fontanel.schemas import AuditEntryOut
from fontanel.service.audited import action_of
from tests.conftest import STORM, Service, TeamSetup, free_port, join, new_team, until


def entries(client: Client, action: str = "", **chosen: Any) -> list[AuditEntryOut]:
    return client.list_audit(AuditFilter(action=action, **chosen), limit=200).items


def owner_of(team: TeamSetup) -> Client:
    client = Client(team.service.url, team=team.slug)
    client.sign_in(team.email, team.password)
    return client


def test_a_change_is_recorded_with_who_what_and_where(team: TeamSetup) -> None:
    with owner_of(team) as owner:
        kb = owner.create_kb("Port rules")
        owner.change_kb(kb.slug, name="Rules of the port")
    changed, created = entries(team.client, "kb.")[:2]
    assert (created.action, changed.action) == ("kb.create", "kb.change")
    assert created.changes[0].model_dump() == {
        "kind": "knowledge base",
        "id": kb.id,
        "change": "created",
        "name": "Port rules",
        "fields": {},
    }
    assert changed.target == f"kbs/{kb.slug}"
    assert changed.changes[0].fields == {"name": None}
    assert changed.actor_kind == "person"
    assert changed.name is not None
    assert changed.name.startswith("Owner")
    assert changed.address == "127.0.0.1"
    assert changed.request_id is not None
    assert changed.request_id.startswith("req_")


def test_a_key_and_a_role_are_recorded_with_old_and_new(team: TeamSetup) -> None:
    join(team.service, team.client, "sam@skerrow.example", f"Sam {team.slug}")
    team.client.change_member("sam@skerrow.example", "editor")
    assert entries(team.client, "member.change")[0].changes[0].fields == {
        "role": ["reader", "editor"]
    }
    made = team.client.make_key("nightly import", "editor")
    with Client(team.service.url, made.secret, team.slug) as program:
        program.create_kb("By a program")
    entry = entries(team.client, "kb.create")[0]
    assert (entry.actor_kind, entry.name, entry.actor_id) == ("key", "nightly import", made.id)
    assert entries(team.client, actor="nightly import") == [entry]
    joined = entries(team.client, "invitation.accept")
    assert any(change.kind == "member" for one in joined for change in one.changes)
    assert entries(team.client, "member.change")[0].target == "members/*"


def test_what_is_undone_is_not_recorded(team: TeamSetup, kb: str) -> None:
    before = len(entries(team.client))
    with pytest.raises(NotFound):
        team.client.delete_document(kb, "no-such-document")
    team.client.list_kbs()
    assert len(entries(team.client)) == before


def test_documents_are_recorded_but_not_what_the_service_does_with_them(
    team: TeamSetup, kb: str
) -> None:
    added = team.client.add_document(kb, STORM, "storm-plan.md", wait=True)
    team.client.search(kb, "wind")
    team.client.ask(kb, "What is the wind limit at the outer berth?")
    team.client.delete_document(kb, added.document.id)
    actions = [one.action for one in entries(team.client)][:3]
    assert actions == ["document.delete", "document.create", "kb.create"]


def test_refusals_are_recorded_and_repeated_ones_counted_together(team: TeamSetup) -> None:
    reader = team.with_role("reader")
    for _ in range(3):
        with pytest.raises(NotAllowed):
            reader.create_kb("Not mine to make")
    until(lambda: entries(team.client, outcome="refused"))
    refused = entries(team.client, outcome="refused")
    assert [(one.action, one.problem) for one in refused] == [("kb.create", "not-allowed")]
    assert refused[0].name == "a reader"


def test_a_stranger_who_tries_a_team_is_recorded_there(team: TeamSetup) -> None:
    stranger = new_team(team.service)
    with (
        Client(team.service.url, stranger.key, team.slug) as outside,
        pytest.raises(NotFound),
    ):
        outside.list_kbs()
    until(lambda: entries(team.client, outcome="refused"))
    assert entries(team.client, outcome="refused")[0].problem == "not-found"


def test_sign_ins_are_in_the_log_of_the_service(team: TeamSetup) -> None:
    with owner_of(team), Client(team.service.url) as guessing:
        with pytest.raises(NotSignedIn):
            guessing.sign_in(team.email, "not the password")
        with team.service.operator() as operator:

            def refused() -> list[AuditEntryOut]:
                chosen = AuditFilter(action="session.sign-in", outcome="refused")
                page = operator.list_audit(chosen, everywhere=True, log="service", limit=200)
                return [one for one in page.items if one.about == team.email]

            until(refused)
            assert refused()[0].problem == "wrong-password"
            chosen = AuditFilter(action="session.sign-in", outcome="done")
            page = operator.list_audit(chosen, everywhere=True, log="service", limit=200)
            assert any((one.name or "").startswith("Owner") for one in page.items)


def test_reading_anothers_record_and_exports_are_recorded(team: TeamSetup, storm: str) -> None:
    reader = team.with_role("reader")
    answer = reader.ask(storm, "What is the wind limit at the outer berth?")
    reader.show_answer(answer.turn_id)
    for _ in range(2):
        team.client.show_answer(answer.turn_id)
    list(team.client.export_answers())
    until(lambda: entries(team.client, "answer.export"))
    read = entries(team.client, "answer.read")
    assert [(one.name, one.target) for one in read] == [("tests", f"answers/{answer.turn_id}")]


def test_owners_see_their_team_and_operators_all(team: TeamSetup) -> None:
    other = new_team(team.service)
    other.client.create_kb("Next door")
    assert all(one.log == entries(team.client)[0].log for one in entries(team.client))
    with pytest.raises(NotAllowed):
        team.client.list_audit(everywhere=True)
    for role in ("reader", "editor"):
        with pytest.raises(NotAllowed):
            team.with_role(role).list_audit()
    with team.service.operator() as operator:
        page = operator.list_audit(AuditFilter(action="kb.create"), everywhere=True, log=other.slug)
        assert [one.changes[0].name for one in page.items] == ["Next door"]
        assert len({one.log for one in operator.list_audit(everywhere=True, limit=200).items}) > 1
        assert all(one.whole for one in operator.verify_audit(everywhere=True))


def test_the_log_of_a_deleted_team_stays(team: TeamSetup) -> None:
    log = entries(team.client)[0].log
    with team.service.operator() as operator:
        operator.use_team(team.slug)
        operator.delete_team(team.slug)
        page = operator.list_audit(everywhere=True, log=log)
    assert page.items[0].action == "team.delete"


def test_pages_follow_each_other(team: TeamSetup) -> None:
    for number in range(5):
        team.client.create_kb(f"Base {number}")
    first = team.client.list_audit(AuditFilter(action="kb."), limit=3)
    second = team.client.list_audit(AuditFilter(action="kb."), limit=3, cursor=first.next)
    names = [one.changes[0].name for one in (*first.items, *second.items)]
    assert names == [f"Base {number}" for number in (4, 3, 2, 1, 0)]
    assert second.next is None


def test_exports_can_be_verified_and_opened(team: TeamSetup) -> None:
    team.client.create_kb("=HYPERLINK(1)")
    lines = [json.loads(line) for line in team.client.export_audit()]
    assert verify(lines, number=1, previous=START) is None
    lines[1]["action"] = "nothing"
    assert verify(lines) is not None
    rows = list(csv.DictReader(team.client.export_audit(form="csv")))
    assert rows[0]["action"] == lines[0]["action"]
    assert not any(cell.startswith("=") for row in rows for cell in row.values())


def test_every_route_that_changes_something_has_a_name_for_it(service: Service) -> None:
    paths = httpx.get(f"{service.url}/api/openapi.json", timeout=60).json()["paths"]
    changing = [
        (method.upper(), path)
        for path, methods in paths.items()
        for method in methods
        if method != "get"
    ]
    names = [action_of(method, path) for method, path in changing]
    assert len(names) > 100
    odd = [name for name in names if not all(part.strip("-") for part in name.split("."))]
    assert odd == []
    assert {"kb.create", "edition.activate", "approved.import", "visitor-key.delete"} <= {*names}


# Append only


@pytest.fixture
def records(tmp_path: Path) -> Iterator[Records]:
    result = Records(tmp_path / "fontanel.db")
    yield result
    result.close()


def add_entries(records: Records, count: int) -> None:
    for number in range(count):
        with records.auditing() as session:
            acting = Acting("kb.create", f"kbs/{number}", "person", "person_1", "Ada", "::1")
            write_entry(session, acting, [])


def test_the_database_refuses_changes_and_deletions(records: Records, tmp_path: Path) -> None:
    add_entries(records, 2)
    with sqlite3.connect(tmp_path / "fontanel.db") as raw:
        for statement in (
            "UPDATE audit_entries SET action = 'nothing'",
            "UPDATE audit_entries SET who = '{}'",
            "DELETE FROM audit_entries",
        ):
            with pytest.raises(sqlite3.IntegrityError, match="audit entries cannot be"):
                raw.execute(statement)
        assert raw.execute("UPDATE audit_entries SET who = NULL, salt = NULL").rowcount == 2


def test_a_change_and_its_entry_are_committed_together(records: Records) -> None:
    acting = Acting("team.create", kind="machine")

    def fail() -> None:
        with acting_as(acting), records.writing() as session:
            session.add(Team(id="team_1", slug="a", name="A"))
            session.flush()
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        fail()
    with acting_as(acting), records.writing() as session:
        session.add(Team(id="team_1", slug="a", name="A"))
    with records.reading() as session:
        rows = session.connection().exec_driver_sql("SELECT number, action FROM audit_entries")
        assert [tuple(row) for row in rows] == [(1, "team.create")]


def test_old_entries_are_deleted_and_the_rest_verified(records: Records) -> None:
    from fontanel.service.out.audit import audit_logs, check_log

    add_entries(records, 4)
    with records.auditing() as session:
        assert trim(session, datetime.now(UTC) + timedelta(seconds=1)) == 4
    add_entries(records, 3)
    with records.reading() as session:
        ((log, name),) = audit_logs(session)
    checked = check_log(records, log, name)
    assert (checked.whole, checked.first, checked.last) == (True, 5, 7)


def test_tampering_below_the_database_is_found(tmp_path: Path) -> None:
    service = Service(tmp_path / "data").start()
    team = new_team(service)
    team.client.create_kb("Evidence")
    service.stop()
    with sqlite3.connect(tmp_path / "data" / "fontanel.db") as raw:
        for name in ("unchanged", "erased", "kept"):
            raw.execute(f"DROP TRIGGER audit_entries_{name}")
        raw.execute("UPDATE audit_entries SET action = 'kb.read' WHERE action = 'kb.create'")
    service.start()
    (checked,) = team.client.verify_audit()
    assert not checked.whole
    assert checked.fault is not None
    assert checked.fault.endswith("it was changed.")
    with sqlite3.connect(tmp_path / "data" / "fontanel.db") as raw:
        raw.execute("DELETE FROM audit_entries WHERE action = 'kb.read'")
    (checked,) = team.client.verify_audit()
    assert not checked.whole
    service.stop()


# Out of the service


def test_a_receiver_gets_entries_that_it_names(
    tmp_path: Path, receiver: tuple[str, list[tuple[dict[str, str], bytes]], list[int]]
) -> None:
    service = Service(tmp_path / "data", {"FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8"}).start()
    client = new_team(service).client
    url, got, _ = receiver
    client.add_receiver(url, ["audit.entry"])
    client.create_kb("Watched")
    until(lambda: any(b"Watched" in body for _, body in got))
    event = next(json.loads(body) for _, body in got if b"Watched" in body)
    assert event["type"] == "fontanel.audit.entry"
    assert event["data"]["action"] == "kb.create"
    service.stop()


class Syslog(threading.Thread):
    """A server that receives octet-counted messages (RFC 6587)."""

    def __init__(self, port: int) -> None:
        super().__init__(daemon=True)
        self.listener = socket.create_server(("127.0.0.1", port))
        self.received: list[str] = []

    def run(self) -> None:
        try:
            connection, _ = self.listener.accept()
            with connection, connection.makefile("rb") as stream:
                while size := self._size(stream):
                    self.received.append(stream.read(size).decode())
        except OSError:
            return

    @staticmethod
    def _size(stream: BinaryIO) -> int:
        """Read the length before a message; 0 when the connection has ended."""
        digits = b""
        while (digit := stream.read(1)) not in (b" ", b""):
            digits += digit
        return int(digits or b"0")

    def close(self) -> None:
        self.listener.close()


def test_entries_are_sent_to_a_syslog_server_also_after_it_was_away(tmp_path: Path) -> None:
    port = free_port()
    environment = {"FONTANEL_AUDIT_SYSLOG": f"tcp://127.0.0.1:{port}"}
    service = Service(tmp_path / "data", environment).start()
    team = new_team(service)
    server = Syslog(port)
    server.start()
    team.client.create_kb('Berths "]')
    until(lambda: any("kb.create" in one for one in server.received))
    line = next(one for one in server.received if "kb.create" in one)
    head, _, body = line.partition("\ufeff")
    assert head.startswith("<109>1 20")
    assert ' kb.create [audit@32473 log="team_' in head
    assert json.loads(body)["changes"][0]["name"] == 'Berths "]'
    numbers = [json.loads(one.partition("\ufeff")[2])["number"] for one in server.received]
    assert 1 in numbers
    server.close()
    service.stop()


def test_a_wrong_address_of_a_syslog_server_is_explained(tmp_path: Path) -> None:
    service = Service(tmp_path / "data", {"FONTANEL_AUDIT_SYSLOG": "logs.skerrow.example"})
    with pytest.raises(AssertionError, match="not the address of a syslog server"):
        service.start()
