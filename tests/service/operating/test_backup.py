"""Backups of a running service, restored, opened and asked."""

from __future__ import annotations

import hashlib
import json
import shutil
import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import boto3
import pytest

from fontanel.client import Client, Conflict, NotAllowed, NotFound, ProblemError
from fontanel.engine.backup.places import BackupFailed, Folder
from fontanel.engine.backup.repository import Repository, open_repository
from fontanel.engine.backup.restoring import restore
from fontanel.engine.backup.sealing import Sealing
from fontanel.engine.backup.taking import take_backup
from fontanel.errors import Refused
from fontanel.records.blobs import BlobStore
from fontanel.schemas import BackupOut
from fontanel.settings import Settings
from fontanel.simulators.bucket import bucket_app
from tests.conftest import STORM, Service, TeamSetup, new_team, until

QUESTION = "What is the wind limit at the outer berth?"
KEY = "slack water"


@pytest.fixture
def started(tmp_path: Path) -> Iterator[Callable[..., Service]]:
    services: list[Service] = []

    def start(data: Path, **environment: str) -> Service:
        service = Service(data, environment)
        services.append(service)
        return service.start()

    yield start
    for service in services:
        if service.process is not None and service.process.poll() is None:
            service.stop()


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """A service that stores encrypted backups."""
    folder = tmp_path_factory.mktemp("backed-up")
    environment = {"FONTANEL_BACKUP": str(folder / "backups"), "FONTANEL_BACKUP_KEY": KEY}
    result = Service(folder / "data", environment).start()
    yield result
    result.stop()


@pytest.fixture
def backed_up(service: Service) -> TeamSetup:
    """A team with an indexed document."""
    team = new_team(service)
    team.client.create_kb("Harbour rules")
    team.client.add_document("harbour-rules", STORM, "storm-plan.md", wait=True)
    return team


@pytest.fixture
def backups(service: Service) -> Path:
    """The folder with the backups."""
    return Path(service.environment["FONTANEL_BACKUP"])


def backup(service: Service) -> BackupOut:
    with service.operator() as operator:
        *_, last = operator.wait_for_backup(operator.start_backup().id)
    assert last.state == "done", last.error
    return last


def repository(backups: Path) -> Repository:
    return Repository(Folder(backups), KEY)


def restored(backups: Path, target: Path, backup_id: str, **how: Any) -> Path:
    place = repository(backups)
    restore(place, place.manifest(backup_id), target, **how)
    return target


def objects_in(backups: Path) -> set[Path]:
    return {path for path in (backups / "objects").rglob("*") if path.is_file()}


def test_a_restored_service_answers_as_before_and_signs_people_in(
    tmp_path: Path, backed_up: TeamSetup, backups: Path, started: Callable[..., Service]
) -> None:
    answer = backed_up.client.ask("harbour-rules", QUESTION)
    taken = backup(backed_up.service)
    assert "opened, and asked about storm-plan.md" in taken.checked
    assert taken.encrypted
    backed_up.client.delete_kb("harbour-rules")

    copy = started(restored(backups, tmp_path / "restored", taken.id))
    with Client(copy.url, backed_up.key, backed_up.slug) as client:
        again = client.ask("harbour-rules", QUESTION)
        assert (again.text, again.outcome) == (answer.text, answer.outcome)
        assert client.show_answer(answer.turn_id).text == answer.text
        client.add_document("harbour-rules", STORM + b"\nMore.", "another.md", wait=True)
    with Client(copy.url, team=backed_up.slug) as owner:
        owner.sign_in(backed_up.email, backed_up.password)


def test_a_second_backup_copies_only_what_changed(backups: Path, backed_up: TeamSetup) -> None:
    for number in range(20):
        text = f"# Notice {number}\n\n" + f"The buoy {number} is lit at night. " * 400
        backed_up.client.add_document("harbour-rules", text.encode(), f"n{number}.md")
    for document in list(backed_up.client.list_documents("harbour-rules")):
        backed_up.client.wait_for_document("harbour-rules", document.id)
    first = backup(backed_up.service)
    objects = objects_in(backups)
    second = backup(backed_up.service)
    added = objects_in(backups) - objects
    # Pieces of the databases alone: the blobs and segments are there.
    files = {file.path: file for file in repository(backups).manifest(second.id).files}
    pieces = [piece for name in ("fontanel.db", "vectors") for piece in files[name].pieces]
    assert len(added) <= len(set(pieces))
    assert second.new < first.new
    assert {*files} >= {
        file.path for file in repository(backups).manifest(first.id).files if "blobs/" in file.path
    }


def test_contents_and_names_are_encrypted(backups: Path, backed_up: TeamSetup) -> None:
    backup(backed_up.service)
    stored = objects_in(backups)
    assert len(stored) > 5
    name = hashlib.sha256(STORM).hexdigest()
    for path in stored:
        assert b"Outer berth" not in path.read_bytes()
        assert name not in path.name
    for key, message in (("", "are encrypted"), ("ebb", "not the key")):
        with pytest.raises(Refused, match=message):
            Repository(Folder(backups), key)


def test_an_unencrypted_backup_has_no_key_of_stored_secrets(
    tmp_path: Path, started: Callable[..., Service]
) -> None:
    service = started(tmp_path / "data", FONTANEL_BACKUP=str(tmp_path / "backups"))
    taken = backup(service)
    manifest = Repository(Folder(tmp_path / "backups")).manifest(taken.id)
    assert not manifest.secrets
    assert "secret.key" not in {file.path for file in manifest.files}


def test_one_team_can_be_restored_without_the_others(
    tmp_path: Path, backed_up: TeamSetup, backups: Path, started: Callable[..., Service]
) -> None:
    other = new_team(backed_up.service, "Passenger services")
    other.client.create_kb("Tickets")
    other.client.add_document("tickets", b"# Fares\n\nA ticket costs 4 crowns.", "f.md", wait=True)
    taken = backup(backed_up.service)
    data = restored(backups, tmp_path / "restored", taken.id, team=backed_up.slug)
    for path in (data / "fontanel.db", data / "vectors"):
        assert b"4 crowns" not in path.read_bytes()
    blobs = {path.name for path in (data / "blobs").rglob("*") if path.is_file()}
    assert hashlib.sha256(STORM).hexdigest() in blobs
    assert len(blobs) == 2
    copy = started(data)
    with Client(copy.url, backed_up.key, backed_up.slug) as client:
        assert client.ask("harbour-rules", QUESTION).outcome == "answered"
        assert client.verify_audit()[0].whole
    with Client(copy.url, other.key, other.slug) as client, pytest.raises(ProblemError):
        client.list_kbs()
    with pytest.raises(Refused, match="no team 'nobody'"):
        restored(backups, tmp_path / "nothing", taken.id, team="nobody")
    assert not (tmp_path / "nothing").exists()


def test_what_is_acknowledged_before_a_backup_is_in_it(
    tmp_path: Path, backed_up: TeamSetup, backups: Path
) -> None:
    """While documents come, change and go, and segments are merged."""
    client, ended = backed_up.client, threading.Event()
    acknowledged: list[tuple[str, str]] = []

    def write() -> None:
        number = 0
        while not ended.is_set():
            text = f"# Notice {number}\n\nBuoy {number} is lit.".encode()
            name = f"n{number % 40}.md"
            client.add_document("harbour-rules", text, name)
            acknowledged.append((name, hashlib.sha256(text).hexdigest()))
            if number % 7 == 6:
                client.delete_document("harbour-rules", f"n{(number - 3) % 40}.md")
                acknowledged.append((f"n{(number - 3) % 40}.md", ""))
            number += 1

    writer = threading.Thread(target=write)
    writer.start()
    try:
        until(lambda: len(acknowledged) > 60)
        before = dict(acknowledged)
        count = len(acknowledged)
        taken = backup(backed_up.service)
        after = acknowledged[count:]
    finally:
        ended.set()
        writer.join()
    data = restored(backups, tmp_path / "restored", taken.id, team=backed_up.slug)
    with closing(sqlite3.connect(data / "fontanel.db")) as records:
        rows = records.execute(
            "SELECT d.name, r.sha256 FROM documents d"
            " JOIN revisions r ON r.id = d.latest_revision_id"
        ).fetchall()
    stored = dict(rows)
    changed = {name for name, _ in after}
    for name, sha256 in before.items():
        if name not in changed:
            assert stored.get(name, "") == sha256, name
    for sha256 in stored.values():
        path = BlobStore(data / "blobs").path(sha256)
        assert hashlib.sha256(path.read_bytes()).hexdigest() == sha256
    with closing(sqlite3.connect(data / "fontanel.db")) as records:
        segments = records.execute("SELECT edition_id, id FROM segments").fetchall()
    assert segments
    assert all((data / "editions" / edition / one).is_file() for edition, one in segments)


def test_a_backup_that_is_killed_does_not_exist_and_the_next_continues(
    tmp_path: Path, service: Service, backups: Path
) -> None:
    with service.operator() as operator:
        killed = operator.start_backup()
        with pytest.raises(Conflict):
            operator.start_backup()
    service.kill()
    service.start()
    with service.operator() as operator:
        until(lambda: operator.show_backup(killed.id).state in ("failed", "done"))
    taken = backup(service)
    assert repository(backups).ids()[0] == taken.id
    assert not (service.data / "backup.part").exists()
    restored(backups, tmp_path / "restored", taken.id)


def test_damage_is_found(tmp_path: Path, backed_up: TeamSetup, backups: Path) -> None:
    taken = backup(backed_up.service)
    copy = Path(shutil.copytree(backups, tmp_path / "backups"))
    database = repository(copy).manifest(taken.id).files[0]
    needed = Sealing(KEY, bytes.fromhex(json.loads((copy / "repository.json").read_text())["salt"]))
    name = needed.name(database.pieces[0])
    piece = copy / "objects" / name[:2] / name
    whole = piece.read_bytes()
    piece.write_bytes(whole[:-1] + bytes([whole[-1] ^ 1]))
    with pytest.raises(BackupFailed, match="damaged"):
        restored(copy, tmp_path / "restored", taken.id)
    piece.unlink()
    with pytest.raises(BackupFailed, match="missing"):
        restored(copy, tmp_path / "restored", taken.id)
    assert not (tmp_path / "restored").exists()


def test_old_backups_go_with_what_only_they_need(
    tmp_path: Path, backed_up: TeamSetup, backups: Path
) -> None:
    backup(backed_up.service)
    backed_up.client.delete_document("harbour-rules", "storm-plan.md")
    last = backup(backed_up.service)
    copy = Path(shutil.copytree(backups, tmp_path / "backups"))
    place, before = repository(copy), len(objects_in(copy))
    assert place.delete(place.ids()[1:]) > 0
    assert place.ids() == [last.id]
    assert len(objects_in(copy)) < before
    restored(copy, tmp_path / "restored", last.id)


def test_a_place_that_cannot_be_written_fails_the_backup_alone(
    tmp_path: Path, started: Callable[..., Service]
) -> None:
    (tmp_path / "file").write_text("not a folder")
    service = started(tmp_path / "data", FONTANEL_BACKUP=str(tmp_path / "file" / "backups"))
    with service.operator() as operator:
        *_, last = operator.wait_for_backup(operator.start_backup().id)
        assert last.state == "failed"
        assert "cannot be used for backups" in last.error
        with pytest.raises(NotFound):
            operator.show_backup("20260101T000000Z-abcdef")


def test_backups_are_for_operators(team: TeamSetup) -> None:
    for call in (team.client.list_backups, team.client.start_backup):
        with pytest.raises(NotAllowed):
            call()


def test_a_bucket_stores_the_same(
    tmp_path: Path, started: Callable[..., Service], serve: Callable[[Any], str]
) -> None:
    folder = tmp_path / "store"
    (folder / "safe").mkdir(parents=True)
    url = serve(bucket_app(folder, "fontanel", "tide"))
    service = started(
        tmp_path / "data",
        FONTANEL_BACKUP="s3://safe/fontanel",
        FONTANEL_BACKUP_ENDPOINT=url,
        FONTANEL_BACKUP_ACCESS_KEY="fontanel",
        FONTANEL_BACKUP_SECRET_KEY="tide",
        FONTANEL_BACKUP_SCHEDULE="0 3 * * *",
    )
    team = new_team(service)
    team.client.create_kb("Harbour rules")
    team.client.add_document("harbour-rules", STORM, "storm-plan.md", wait=True)
    with service.operator() as operator:
        # The first is due at once.
        until(lambda: operator.list_backups().items[-1:] != [])
        assert operator.list_backups().items[-1].asked_by == "schedule"
        until(lambda: operator.list_backups().items[-1].state == "done")
    taken = backup(service)
    store = boto3.client(
        "s3",
        endpoint_url=url,
        aws_access_key_id="fontanel",
        aws_secret_access_key="tide",
        region_name="us-east-1",
    )
    listed = store.list_objects_v2(Bucket="safe", Prefix="fontanel/backups/")
    assert taken.id in {one["Key"].rpartition("/")[2] for one in listed["Contents"]}

    place = open_repository(
        Settings(
            backup="s3://safe/fontanel",
            backup_endpoint=url,
            backup_access_key="fontanel",
            backup_secret_key="tide",
        )
    )
    restore(place, place.manifest(taken.id), tmp_path / "restored")
    assert (tmp_path / "restored" / "fontanel.db").is_file()


def test_a_copy_can_be_looked_into_without_changing_or_sending_anything(
    tmp_path: Path, backed_up: TeamSetup, backups: Path, started: Callable[..., Service]
) -> None:
    backed_up.client.add_receiver("https://ops.skerrow.example/events")
    taken = backup(backed_up.service)
    copy = started(restored(backups, tmp_path / "restored", taken.id), FONTANEL_READ_ONLY="true")
    with Client(copy.url, backed_up.key, backed_up.slug) as client:
        assert client.ask("harbour-rules", QUESTION).outcome == "answered"
        assert client.search("harbour-rules", "wind").hits
        with pytest.raises(NotAllowed, match="only answers questions"):
            client.create_kb("Another")
        with pytest.raises(NotAllowed, match="only answers questions"):
            client.add_document("harbour-rules", STORM, "other.md")


def test_a_newer_directory_and_a_newer_backup_are_refused(
    tmp_path: Path, started: Callable[..., Service]
) -> None:
    service = started(tmp_path / "data")
    service.stop()
    with closing(sqlite3.connect(tmp_path / "data" / "fontanel.db")) as records:
        records.execute("UPDATE alembic_version SET version_num = '9999'")
        records.commit()
    with pytest.raises(AssertionError, match="newer version of Fontanel"):
        service.start()
    place = Repository(Folder(tmp_path / "backups"), create=True)
    manifest = take_backup(tmp_path / "data", place, "20990101T000000Z-newer")
    with pytest.raises(Refused, match="newer than this one"):
        restore(place, manifest, tmp_path / "restored")
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "something").touch()
    with pytest.raises(Refused, match="not empty"):
        restore(place, manifest, tmp_path / "full")
