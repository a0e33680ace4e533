"""A team is exported from one service and imported into another."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fontanel import schemas as s
from fontanel.client import Client
from fontanel.client.team_archive import ArchiveUnreadable, export_team, import_team
from fontanel.facts import ValidityMark
from tests.conftest import STORM, Service, new_team, until

SECRET = "hoist-the-blue-flag"
QUESTION = "What is the wind limit at the outer berth?"
CANTEEN = "When does the canteen open?"


@pytest.fixture(scope="module")
def other(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """Another service, whose sources may read the same folders."""
    folder = tmp_path_factory.mktemp("other")
    started = Service(folder / "data", {"FONTANEL_SOURCE_ROOTS": str(folder.parent)}).start()
    yield started
    started.stop()


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("moving")
    settings = {
        "FONTANEL_SOURCE_ROOTS": str(folder.parent),
        "FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8",
    }
    started = Service(folder / "data", settings).start()
    yield started
    started.stop()


@pytest.fixture
def notices(tmp_path: Path) -> Path:
    folder = tmp_path / "notices"
    folder.mkdir()
    for number in range(3):
        (folder / f"notice-{number}.md").write_text(f"# Notice {number}\n\nBuoy {number} is lit.\n")
    return folder


def build(client: Client, notices: Path) -> None:
    """Make a team with one of everything that moves."""
    client.create_kb("Port rules", "Rules of the port")
    client.add_document("port-rules", STORM, "storm-plan.md", {"area": "port"}, wait=True)
    for name in ("old.md", "new.md"):
        client.add_document("port-rules", b"# Canteen\n\nIt opens at six.\n", name, wait=True)
    client.mark_document("port-rules", "old.md", ValidityMark.REPLACED, replaced_by="new.md")
    client.change_kb("port-rules", outdated="exclude", max_losses=3)
    text = client.document_text("port-rules", "new.md").text
    start = text.index("It opens")
    places = [
        s.ApprovedPlaceIn(document="new.md", start=start, end=start + len("It opens at six.")),
        s.ApprovedPlaceIn(document="storm-plan.md"),
    ]
    approved = s.ApprovedIn(
        question=CANTEEN, text="At six.", places=places, category="staff", state="approved"
    )
    client.create_approved("port-rules", approved)
    folder = s.SourceIn(
        name="Notices",
        kind="folder",
        settings={"path": str(notices), "watch": False},
        tag_rules=[s.TagRule(pattern="*.md", tags={"kind": "notice"})],
        every_minutes=30,
    )
    source = client.connect_source("port-rules", folder)
    client.wait_for_sync("port-rules", source.id, "latest")
    drive = s.SourceIn(
        name="Drive",
        kind="webdav",
        settings={"url": "http://127.0.0.1:9/"},
        credentials={"user": "port", "password": SECRET},
    )
    client.connect_source("port-rules", drive)
    client.build_edition("port-rules", s.Splitting(target_tokens=80), wait=True)
    questions = client.create_set("Port questions", "What people ask")
    client.add_set_questions(
        questions.id, [s.SetQuestionIn(question=QUESTION, documents=["storm-plan.md"])]
    )
    client.change_kb("port-rules", trial_set=questions.id)
    settings = s.DeskSettings(purpose="Answers crews.", kbs=[s.DeskKb(kb="port-rules")])
    desk = client.create_desk("Port desk", settings)
    client.publish_desk(desk.id, "First")
    version = client.show_desk(desk.id).version
    client.change_desk(desk.id, {"purpose": "Answers everybody."}, version=version)
    client.change_set(questions.id, s.SetChange(desk=desk.id, schedule="nightly"))
    client.change_team(s.TeamChange(time_zone="Europe/Berlin", records_kept_days=90))


def test_everything_moves_to_another_service(
    service: Service, other: Service, notices: Path, tmp_path: Path
) -> None:
    client = new_team(service).client
    build(client, notices)
    steps: list[str] = []
    path = tmp_path / "team.zip"
    archive = export_team(client, path, steps.append)
    assert archive.notes == []
    assert any("Port rules" in step for step in steps)
    with zipfile.ZipFile(path) as whole:
        content = b"".join(whole.read(name) for name in whole.namelist())
    assert SECRET.encode() not in content

    target = new_team(other).client
    done = import_team(target, path)
    assert done.problems == []
    assert done.existing == []
    kb = target.show_kb("port-rules")
    assert (kb.description, kb.outdated, kb.documents) == ("Rules of the port", "exclude", 6)
    assert (kb.max_losses, kb.trial_set) == (3, target.list_sets()[0].id)
    assert target.show_document("port-rules", "storm-plan.md").tags == {"area": "port"}
    old = target.show_document("port-rules", "old.md").validity
    assert old is not None
    assert (old.mark, old.outdated and old.outdated.reason) == ("replaced", "replaced")
    until(lambda: all(one.state == "ready" for one in target.list_editions("port-rules")))
    assert [one.splitting.target_tokens for one in target.list_editions("port-rules")] == [300, 80]
    (questions,) = target.list_sets()
    assert (questions.about, questions.questions) == ("What people ask", 1)
    (desk,) = target.list_desks()
    assert (questions.desk_id, questions.schedule) == (desk.id, "nightly")
    assert desk.published is not None
    assert desk.published.settings.purpose == "Answers crews."
    assert desk.draft.purpose == "Answers everybody."
    (team,) = target.list_teams()
    assert (team.time_zone, team.records_kept_days) == ("Europe/Berlin", 90)

    # Answers are the same, the approved one with its very place.
    before, after = client.ask_desk("port-desk", QUESTION), target.ask_desk("port-desk", QUESTION)
    assert after.text == before.text
    assert [one.quote for one in after.citations] == [one.quote for one in before.citations]
    approved = target.ask_desk("port-desk", CANTEEN)
    assert approved.composer == "approved"
    assert approved.citations[0].quote == "It opens at six."


def test_a_source_goes_on_where_it_was(
    service: Service, other: Service, notices: Path, tmp_path: Path
) -> None:
    client = new_team(service).client
    build(client, notices)
    path = tmp_path / "team.zip"
    export_team(client, path)
    target = new_team(other).client
    import_team(target, path)
    sources = {one.name: one for one in target.list_sources("port-rules")}
    assert all(one.paused and not one.credentials for one in sources.values())
    assert sources["Notices"].every_minutes == 30
    with other.operator() as operator:
        operator.set_grants(target.team, None, None)
    names = {one.name: one.id for one in target.list_documents("port-rules")}

    (notices / "notice-0.md").write_text("# Notice 0\n\nBuoy 0 is dark.\n")
    (notices / "notice-1.md").unlink()
    (notices / "notice-3.md").write_text("# Notice 3\n\nBuoy 3 is lit.\n")
    source = sources["Notices"]
    target.change_source("port-rules", source.id, s.SourceChange(paused=False, guard_share=1.0))
    run = target.sync_source("port-rules", source.id, wait=True)
    assert (run.state, run.error) == ("done", None)
    counts = (run.changed, run.unchanged, run.removed, run.added)
    assert counts == (1, 1, 1, 1)
    now = {one.name: one.id for one in target.list_documents("port-rules")}
    in_folder = {name for name in now if name.startswith("notices/")}
    assert in_folder == {f"notices/notice-{number}.md" for number in (0, 2, 3)}
    assert all(
        now[f"notices/notice-{number}.md"] == names[f"notices/notice-{number}.md"]
        for number in (0, 2)
    )
    again = target.sync_source("port-rules", source.id, wait=True)
    assert (again.changed, again.added, again.removed) == (0, 0, 0)


def test_an_import_can_be_repeated(
    service: Service, other: Service, notices: Path, tmp_path: Path
) -> None:
    client = new_team(service).client
    build(client, notices)
    path = tmp_path / "team.zip"
    export_team(client, path)
    target = new_team(other).client
    first = import_team(target, path)
    # As if it had been interrupted.
    target.delete_desk("port-desk")
    (approved,) = target.list_approved("port-rules")
    target.delete_approved("port-rules", approved.id)
    second = import_team(target, path)
    assert second.problems == []
    assert second.added == ["approved answers of Port rules: 1", "desk Port desk"]
    assert len(target.list_kbs()) == len(target.list_desks()) == len(target.list_sets()) == 1
    assert {"knowledge base Port rules", "question set Port questions"} <= {*second.existing}
    assert {*second.added, *second.existing} >= {one for one in first.added if "desk" in one}


def test_places_follow_their_text_to_the_revision_that_moves(
    other: Service, tmp_path: Path
) -> None:
    client = new_team(other).client
    client.create_kb("Rules")
    quotes = {"a.md": "It opens at six.", "b.md": "It shuts at nine.", "c.md": "It is yellow."}
    for name, quote in quotes.items():
        client.add_document("rules", f"# Title\n\n{quote}\n".encode(), name, wait=True)
        start = client.document_text("rules", name).text.index(quote)
        place = s.ApprovedPlaceIn(document=name, start=start, end=start + len(quote))
        fields = {"question": f"What about {name}?", "text": quote, "places": [place]}
        client.create_approved("rules", s.ApprovedIn.model_validate(fields))
    client.add_document("rules", b"# Title\n\nNew. It opens at six.\n", "a.md", wait=True)
    client.add_document("rules", b"# Title\n\nIt shuts at ten.\n", "b.md", wait=True)
    client.delete_document("rules", "c.md")
    path = tmp_path / "team.zip"
    archive = export_team(client, path)
    assert len(archive.notes) == 2
    assert "is not in b.md any more" in " ".join(archive.notes)
    assert "was deleted" in " ".join(archive.notes)
    target = new_team(other).client
    assert len(import_team(target, path).problems) == 2
    found = {one.question: one.places for one in target.list_approved("rules")}
    assert found["What about a.md?"][0].quote == quotes["a.md"]
    assert found["What about b.md?"][0].quote == ""
    assert found["What about c.md?"] == []


def test_what_the_other_service_lacks_is_a_problem_of_its_own(
    other: Service, tmp_path: Path
) -> None:
    client = new_team(other).client
    client.create_kb("Rules")
    client.add_document("rules", STORM, "storm-plan.md", wait=True)
    client.create_desk("Desk", s.DeskSettings(kbs=[s.DeskKb(kb="rules")]))
    path = tmp_path / "team.zip"
    export_team(client, path)

    def change(raw: dict[str, Any]) -> None:
        raw["kbs"][0]["settings"]["viewer"] = "eyes"
        raw["desks"][0]["draft"]["model"] = "writer"
        raw["desks"][0]["draft"]["kbs"].append({"kb": "lost", "use_for": "", "tags": {}})

    edit(path, change)
    target = new_team(other).client
    done = import_team(target, path)
    assert len(done.problems) == 2
    assert "'eyes' cannot be used" in done.problems[0]
    assert "without lost, the model writer" in done.problems[1]
    assert target.show_desk("desk").draft.model is None
    assert len(target.show_desk("desk").draft.kbs) == 1


def edit(path: Path, change: Any) -> None:
    """Change the settings in an archive."""
    with zipfile.ZipFile(path) as archive:
        entries = {name: archive.read(name) for name in archive.namelist()}
    raw = json.loads(entries["team.json"])
    change(raw)
    entries["team.json"] = json.dumps(raw).encode()
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in entries.items():
            archive.writestr(name, content)


def test_files_that_are_no_archives_are_refused(other: Service, tmp_path: Path) -> None:
    client = new_team(other).client
    client.create_kb("Empty")
    good = tmp_path / "good.zip"
    export_team(client, good)
    target = new_team(other).client
    bad = tmp_path / "bad.zip"
    bad.write_bytes(b"not a ZIP file")
    with pytest.raises(ArchiveUnreadable, match="not an archive of a team"):
        import_team(target, bad)
    with zipfile.ZipFile(bad, "w") as archive:
        archive.writestr("something.txt", "else")
    with pytest.raises(ArchiveUnreadable):
        import_team(target, bad)
    for changed, message in (
        ({"version": 2}, "Use a newer client"),
        ({"format": "other"}, "cannot be read"),
        ({"kbs": [{"name": "X"}]}, "cannot be read"),
    ):
        bad.write_bytes(good.read_bytes())
        edit(bad, lambda raw, changed=changed: raw.update(changed))
        with pytest.raises(ArchiveUnreadable, match=message):
            import_team(target, bad)
    bad.write_bytes(good.read_bytes())
    edit(bad, lambda raw: raw["kbs"][0].update(pack="kbs/lost.pack"))
    with pytest.raises(ArchiveUnreadable, match=r"lost\.pack"):
        import_team(target, bad)
    assert target.list_kbs() == []
