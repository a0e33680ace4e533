"""A folder as a source: added, moved, removed and held; who may do what."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Client, NotAllowed, NotFound, ProblemError
from fontanel.facts import DocumentState
from tests.conftest import STORM, Service, TeamSetup, new_team, until


@pytest.fixture(scope="module")
def roots(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("roots")


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory, roots: Path) -> Iterator[Service]:
    started = Service(
        tmp_path_factory.mktemp("sources") / "data", {"FONTANEL_SOURCE_ROOTS": str(roots)}
    ).start()
    yield started
    started.stop()


@pytest.fixture
def folder(roots: Path, team: TeamSetup) -> Path:
    result = roots / team.slug
    result.mkdir()
    return result


def fill(folder: Path, count: int) -> None:
    for number in range(count):
        (folder / f"notice-{number:02}.md").write_text(
            f"# Notice {number}\n\nBuoy {number} is lit every {number + 3} seconds.\n"
        )


def connect(client: Client, folder: Path, **more: object) -> s.SourceOut:
    """A folder that runs only when told to, connected and run once."""
    client.create_kb("Kb")
    settings = {"path": str(folder), "watch": False}
    source = client.connect_source(
        "kb", s.SourceIn(name="Notices", kind="folder", settings=settings, **more)
    )
    assert client.wait_for_sync("kb", source.id, "latest").state == "done"
    return client.show_source("kb", source.id)


def names(client: Client, state: DocumentState | None = None) -> list[str]:
    return [document.name for document in client.list_documents("kb", state=state)]


def counts(sync: s.SyncOut) -> dict[str, int]:
    words = ("added", "changed", "moved", "removed", "unchanged", "skipped", "failed")
    return {word: count for word in words if (count := getattr(sync, word))}


def test_a_folder_is_taken_and_kept_up(team: TeamSetup, folder: Path) -> None:
    client = team.client
    fill(folder, 3)
    (folder / "plans").mkdir()
    (folder / "plans" / "storm.md").write_bytes(STORM)
    source = connect(
        client, folder, tag_rules=[s.TagRule(pattern="plans/**", tags={"area": "port"})]
    )
    assert names(client) == [
        *(f"notices/notice-0{n}.md" for n in range(3)),
        "notices/plans/storm.md",
    ]
    storm = client.show_document("kb", "notices/plans/storm.md")
    assert (storm.tags, storm.source) == ({"area": "port"}, source.id)
    # Nothing changed: nothing is read.
    assert counts(client.sync_source("kb", source.id, wait=True)) == {"unchanged": 4}
    # One changed, one moved, one is gone, one is new, one is only touched.
    (folder / "notice-00.md").write_text("# Notice 0\n\nBuoy 0 was replaced by a racon.\n")
    (folder / "notice-01.md").rename(folder / "plans" / "moved.md")
    (folder / "plans" / "storm.md").unlink()
    (folder / "new.md").write_text("# New\n\nThe new quay is open.\n")
    os.utime(folder / "notice-02.md", (1, 1))
    moved_id = client.show_document("kb", "notices/notice-01.md").id
    sync = client.sync_source("kb", source.id, wait=True)
    assert counts(sync) == {"added": 1, "changed": 1, "moved": 1, "removed": 1, "unchanged": 1}
    assert client.show_document("kb", "notices/plans/moved.md").id == moved_id
    assert names(client, DocumentState.REMOVED) == ["notices/plans/storm.md"]
    items = {item.id: item for item in client.list_sync_items("kb", source.id, sync.id)}
    assert items["plans/moved.md"].reason == "from notice-01.md"
    assert items["new.md"].embedded == 1
    assert "racon" in client.ask("kb", "What replaced buoy 0?").text
    assert all(
        "storm" not in hit.document_name
        for hit in client.search("kb", "departure from the outer berth").hits
    )
    # It comes back: the same document as before.
    (folder / "plans" / "storm.md").write_bytes(STORM)
    assert client.sync_source("kb", source.id, wait=True).added == 1
    assert client.show_document("kb", "notices/plans/storm.md").id == storm.id


def test_a_run_that_would_remove_much_is_held(team: TeamSetup, folder: Path) -> None:
    client = team.client
    fill(folder, 30)
    source = connect(client, folder)
    for number in range(12):
        (folder / f"notice-{number:02}.md").unlink()
    stored = client.sync_source("kb", source.id, wait=True)
    assert stored.state == "held"
    assert stored.held_reason == "12 of 30 documents would be removed."
    assert len(names(client)) == 30
    assert client.show_source("kb", source.id).freshness.state in ("late", "unscheduled")
    missing = [item.id for item in client.list_sync_items("kb", source.id, stored.id, "missing")]
    assert missing == [f"notice-{number:02}.md" for number in range(12)]
    # Items that disappear after a person looked are not what that person confirmed.
    for number in range(12, 24):
        (folder / f"notice-{number:02}.md").unlink()
    client.confirm_sync("kb", source.id, stored.id)
    again = client.wait_for_sync("kb", source.id, stored.id)
    assert (again.state, len(names(client))) == ("held", 30)
    client.confirm_sync("kb", source.id, stored.id)
    done = client.wait_for_sync("kb", source.id, stored.id)
    assert (done.state, done.removed, len(names(client))) == ("done", 24, 6)
    with pytest.raises(ProblemError):
        client.confirm_sync("kb", source.id, stored.id)


def test_a_held_run_is_lifted_when_things_are_in_order_again(team: TeamSetup, folder: Path) -> None:
    client = team.client
    fill(folder, 12)
    source = connect(client, folder)
    away = folder.with_name(folder.name + "-away")
    folder.rename(away)
    folder.mkdir()
    assert client.sync_source("kb", source.id, wait=True).state == "held"
    folder.rmdir()
    failed = client.sync_source("kb", source.id, wait=True)
    assert (failed.state, len(names(client))) == ("failed", 12)
    assert "is not there" in (client.show_source("kb", source.id).error or "")
    away.rename(folder)
    assert counts(client.sync_source("kb", source.id, wait=True)) == {"unchanged": 12}
    result = client.show_source("kb", source.id)
    assert (result.error, result.failing_since) == (None, None)
    assert [sync.state for sync in result.recent] == ["done", "failed", "ended", "done"]


def test_an_emptied_folder_of_few_documents_is_held_too(team: TeamSetup, folder: Path) -> None:
    client = team.client
    fill(folder, 2)
    source = connect(client, folder)
    for path in folder.iterdir():
        path.unlink()
    stored = client.sync_source("kb", source.id, wait=True)
    assert stored.held_reason == "The source lists nothing any more; 2 documents would be removed."
    client.reject_sync("kb", source.id)
    assert len(names(client)) == 2


def test_a_check_says_what_would_be_taken(team: TeamSetup, folder: Path, tmp_path: Path) -> None:
    client = team.client
    client.create_kb("Kb")
    fill(folder, 3)
    (folder / "film.mp4").write_bytes(b"x")
    (folder / ".hidden.md").write_text("x")
    (folder / "secret.md").symlink_to("/etc/passwd")
    (folder / "inside.md").symlink_to(folder / "notice-00.md")
    settings = {"path": str(folder), "exclude": ["notice-02.md"]}
    trial = client.check_source("kb", s.CheckIn(kind="folder", settings=settings))
    assert sorted(item.id for item in trial.sample) == ["inside.md", "notice-00.md", "notice-01.md"]
    assert set(trial.skipped) == {
        "a kind of file without text",
        "hidden",
        "a link that leads out of the folder",
        "left out by a pattern",
    }
    assert client.list_sources("kb") == []
    for path in ("/etc", str(tmp_path), str(folder / ".." / ".." / ".."), "relative"):
        with pytest.raises(ProblemError) as refused:
            client.check_source("kb", s.CheckIn(kind="folder", settings={"path": path}))
        assert refused.value.problem.field == "settings.path"
    (folder / "out").symlink_to("/etc")
    with pytest.raises(ProblemError):
        client.check_source("kb", s.CheckIn(kind="folder", settings={"path": str(folder / "out")}))


def test_what_a_person_deleted_stays_out(team: TeamSetup, folder: Path) -> None:
    client = team.client
    fill(folder, 2)
    source = connect(client, folder)
    client.delete_document("kb", "notices/notice-00.md")
    (folder / "notice-00.md").write_text("# Changed\n\nAnother text.\n")
    sync = client.sync_source("kb", source.id, wait=True)
    assert sync.skip_reasons == {"deleted here by a person": 1}
    assert names(client) == ["notices/notice-01.md"]


def test_disconnecting_keeps_or_deletes_documents(team: TeamSetup, folder: Path) -> None:
    client = team.client
    fill(folder, 2)
    source = connect(client, folder)
    client.disconnect_source("kb", source.id, keep_documents=True)
    assert [document.source for document in client.list_documents("kb")] == [None, None]
    again = client.connect_source(
        "kb", s.SourceIn(name="More", kind="folder", settings={"path": str(folder), "watch": False})
    )
    client.wait_for_sync("kb", again.id, "latest")
    assert len(names(client)) == 4
    client.disconnect_source("kb", again.id)
    assert len(names(client)) == 2


def test_a_watched_folder_is_taken_up_by_itself(team: TeamSetup, folder: Path) -> None:
    client = team.client
    fill(folder, 1)
    client.create_kb("Kb")
    source = client.connect_source(
        "kb", s.SourceIn(name="Notices", kind="folder", settings={"path": str(folder)})
    )
    client.wait_for_sync("kb", source.id, "latest")
    (folder / "notice-00.md").write_text("# Notice\n\nThe buoy was painted green.\n")
    until(lambda: client.search("kb", '"painted green"').hits)
    result = client.show_source("kb", source.id)
    assert result.freshness.state == "fresh"
    assert result.recent[0].cause == "event"


def test_changing_a_source(team: TeamSetup, folder: Path) -> None:
    client = team.client
    fill(folder, 2)
    source = connect(client, folder)
    changed = client.change_source(
        "kb", source.id, s.SourceChange(cron="15 6 * * 1-5"), source.version
    )
    assert changed.next_run_at is not None
    assert (
        changed.next_run_at.hour,
        changed.next_run_at.minute,
        changed.next_run_at.weekday() < 5,
    ) == (6, 15, True)
    assert client.change_team(s.TeamChange(time_zone="Asia/Tokyo")).time_zone == "Asia/Tokyo"
    moved = client.show_source("kb", source.id).next_run_at
    assert moved is not None
    assert (moved.hour, moved.minute) == (21, 15)
    with pytest.raises(ProblemError):
        client.change_team(s.TeamChange(time_zone="Nowhere/Nothing"))
    changed = client.change_source("kb", source.id, s.SourceChange(every_minutes=5))
    assert (changed.cron, changed.every_minutes) == (None, 5)
    assert (
        client.change_source("kb", source.id, s.SourceChange(paused=True)).freshness.state
        == "paused"
    )
    for wrong in (
        s.SourceChange(cron="at noon"),
        s.SourceChange(settings={"path": "/etc"}),
        s.SourceChange(settings={"pat": "x"}),
    ):
        with pytest.raises(ProblemError):
            client.change_source("kb", source.id, wrong)
    rules = [s.TagRule(pattern="notice-01.md", tags={"year": "2026"})]
    client.change_source("kb", source.id, s.SourceChange(tag_rules=rules))
    assert client.show_document("kb", "notices/notice-01.md").tags == {"year": "2026"}


def test_readers_look_and_strangers_see_nothing(
    team: TeamSetup, folder: Path, service: Service
) -> None:
    fill(folder, 1)
    source = connect(team.client, folder)
    with team.with_role("reader") as reader:
        assert reader.show_source("kb", source.id).documents == 1
        with pytest.raises(NotAllowed):
            reader.sync_source("kb", source.id)
        with pytest.raises(NotAllowed):
            reader.check_source("kb", s.CheckIn(kind="folder", settings={"path": str(folder)}))
    other = new_team(service)
    other.client.create_kb("Kb")
    with pytest.raises(NotFound):
        other.client.show_source("kb", source.id)


def test_programs_send_documents(team: TeamSetup) -> None:
    client = team.client
    client.create_kb("Kb")
    source = client.connect_source("kb", s.SourceIn(name="Tickets", kind="push", settings={}))
    sent = [
        s.PushedIn(
            id=f"t-{n}",
            title=f"Ticket {n}",
            text=f"The winch number {n} jams.",
            link=f"https://t.example/{n}",
        )
        for n in range(3)
    ]
    assert {item.outcome for item in client.push_documents("kb", source.id, sent).items} == {
        "added"
    }
    assert {item.outcome for item in client.push_documents("kb", source.id, sent).items} == {
        "unchanged"
    }
    sent[0] = sent[0].model_copy(update={"text": "The winch number 0 was mended."})
    out = client.push_documents("kb", source.id, sent[:1], ["t-2", "t-9"])
    assert [(item.id, item.outcome) for item in out.items] == [
        ("t-0", "changed"),
        ("t-2", "removed"),
        ("t-9", "unchanged"),
    ]
    for document in list(client.list_documents("kb")):
        client.wait_for_document("kb", document.id)
    assert names(client) == ["tickets/t-0.md", "tickets/t-1.md"]
    assert client.show_document("kb", "tickets/t-1.md").link == "https://t.example/1"
    assert "mended" in client.ask("kb", "What about winch 0?").text
    with pytest.raises(ProblemError):
        client.sync_source("kb", source.id)
