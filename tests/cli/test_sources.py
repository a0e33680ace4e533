"""`fontanel source`, `document write` and their kin, as a process."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.cli.conftest import Run
from tests.conftest import Service, TeamSetup, new_team


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("cli-sources")
    started = Service(folder / "data", {"FONTANEL_SOURCE_ROOTS": str(folder)}).start()
    yield started
    started.stop()


@pytest.fixture
def team(service: Service) -> TeamSetup:
    result = new_team(service)
    result.client.create_kb("Kb")
    return result


@pytest.fixture
def folder(service: Service, team: TeamSetup) -> Path:
    result = service.data.parent / team.slug
    result.mkdir()
    for number in range(12):
        (result / f"{number:02}.md").write_text(
            f"# Light {number}\n\nLight {number} of {team.slug} shows every {number + 2} seconds.\n"
        )
    return result


def test_a_folder_from_check_to_disconnect(run: Run, folder: Path) -> None:
    path = f"path={folder}"
    looked = run("source", "check", "--kind", "folder", "--set", path, "--set", "exclude=1*.md")
    assert "10 would be added" in looked.stdout
    assert "2 skipped: left out by a pattern, for instance 1" in looked.stdout
    connected = run(
        "source",
        "connect",
        "Lights",
        "--kind",
        "folder",
        "--set",
        path,
        "--set",
        "watch=false",
        "--every",
        60,
        "--tag-rule",
        "0*.md:area=outer",
        "--target",
        30,
    )
    assert connected.returncode == 0, connected.stderr
    assert connected.stdout.startswith("done: 12 added\n")
    assert "in 12 passages, of which 0 had their vectors" in connected.stdout
    listed = run("source", "list").stdout
    assert "every 60 min" in listed
    assert "fresh" in listed
    assert "area=outer" in run("document", "show", "lights/01.md").stdout
    assert run("source", "sync", "Lights").stdout == "done: 12 unchanged\n"
    shown = run("source", "show", "lights").stdout
    assert "0*.md: area=outer" in shown
    assert "20 %, at least 10" in shown
    assert (
        "Changed Lights."
        in run(
            "source", "change", "Lights", "--cron", "0 6 * * *", "--guard-min", 5, "--pause"
        ).stdout
    )
    assert "paused" in run("source", "list").stdout
    assert run("source", "disconnect", "Lights").returncode == 2  # there is nobody to ask
    assert run("source", "disconnect", "Lights", "--yes", "--keep-documents").returncode == 0
    assert "No sources." in run("source", "list").stdout
    assert len(json.loads(run("document", "list", "--json").stdout)) == 12


def test_a_held_run_is_shown_and_decided(run: Run, folder: Path) -> None:
    run(
        "source",
        "connect",
        "Lights",
        "--kind",
        "folder",
        "--set",
        f"path={folder}",
        "--set",
        "watch=no",
    )
    for number in range(11):
        (folder / f"{number:02}.md").unlink()
    stored = run("source", "sync", "Lights")
    assert stored.returncode == 1
    assert "11 of 12 documents would be removed." in stored.stderr
    assert "fontanel source confirm" in stored.stderr
    missing = run("source", "run", "Lights", "--outcome", "missing").stdout
    assert missing.count("missing") == 11
    assert "Nothing is removed." in run("source", "reject", "Lights").stdout
    run("source", "sync", "Lights")
    confirmed = run("source", "confirm", "Lights")
    assert confirmed.returncode == 0
    assert "11 removed" in confirmed.stdout
    assert run("source", "runs", "Lights").stdout.count("sync_") == 3
    assert "a run is held" in run("notice", "list").stdout


def test_json_for_programs(run: Run, folder: Path) -> None:
    run("source", "connect", "Lights", "--kind", "folder", "--set", f"path={folder}")
    commands = [
        ("source", "kinds"),
        ("source", "list"),
        ("source", "show", "Lights"),
        ("source", "runs", "Lights"),
        ("source", "run", "Lights"),
        ("source", "check", "Lights"),
        ("source", "sync", "Lights"),
        ("source", "freshness"),
        ("source", "signal", "Lights"),
        ("notice", "list"),
        ("receiver", "list"),
        ("receiver", "add", "https://ops.skerrow.example/x"),
        ("document", "folders"),
        ("document", "revisions", "lights/01.md"),
        ("document", "changes", "lights/01.md"),
        ("team", "change", "--time-zone", "Europe/Oslo"),
    ]
    for command in commands:
        done = run(*command, "--json")
        assert done.returncode == 0, (command, done.stderr)
        json.loads(done.stdout)


@pytest.mark.parametrize(
    ("arguments", "code", "said"),
    [
        (("connect", "X", "--kind", "nothing"), 2, "There is no kind 'nothing'"),
        (("connect", "X", "--kind", "folder", "--set", "pth=/srv"), 2, "has the settings"),
        (
            ("connect", "X", "--kind", "folder", "--set", "path=/etc"),
            1,
            "is not below a folder that the operator allows",
        ),
        (
            ("connect", "X", "--kind", "bucket", "--set", "endpoint=ftp://x", "--set", "bucket=b"),
            1,
            "is not an address",
        ),
        (
            ("connect", "X", "--kind", "webdav", "--set", "url=https://me:pw@host/"),
            1,
            "not in the address",
        ),
        (
            (
                "connect",
                "X",
                "--kind",
                "site",
                "--set",
                "start=https://x.example",
                "--cron",
                "at noon",
            ),
            1,
            "is not a cron expression",
        ),
        (
            (
                "connect",
                "X",
                "--kind",
                "site",
                "--set",
                "start=https://x.example",
                "--set",
                "depth=deep",
            ),
            2,
            "does not fit",
        ),
        (
            ("connect", "X", "--kind", "folder", "--credential", "token=x"),
            2,
            "has the credentials: none",
        ),
        (("check", "--kind", "folder"), 1, "settings.path"),
        (("check",), 2, "Name a source"),
        (("show", "nothing"), 3, "There is no source 'nothing'"),
        (("change", "nothing", "--pause"), 3, "There is no source"),
        (("sync", "nothing"), 3, "There is no source"),
    ],
)
def test_what_is_wrong_is_said_in_one_line(
    run: Run, arguments: tuple[str, ...], code: int, said: str
) -> None:
    done = run("source", *arguments)
    assert (done.returncode, done.stderr.count("\n")) == (code, 1), done.stderr
    assert said in done.stderr


def test_credentials_come_from_the_environment_and_never_back(run: Run) -> None:
    done = run(
        "source",
        "connect",
        "Store",
        "--kind",
        "bucket",
        "--set",
        "endpoint=https://store.skerrow.example",
        "--set",
        "bucket=manuals",
        "--credential",
        "access_key=AK1",
        "--credential",
        "secret_key",
        "--no-wait",
        FONTANEL_CREDENTIAL_SECRET_KEY="very secret",
    )
    assert done.returncode == 0, done.stderr
    shown = run("source", "show", "Store", "--json").stdout
    assert json.loads(shown)["credentials"] == ["access_key", "secret_key"]
    assert "very secret" not in shown
    assert "AK1" not in shown


def test_files_are_pushed_with_their_paths_as_ids(run: Run, tmp_path: Path) -> None:
    run("source", "connect", "Tickets", "--kind", "push")
    (tmp_path / "t").mkdir()
    (tmp_path / "t" / "1.md").write_text("# One\n\nThe winch jams.\n")
    (tmp_path / "t" / "2.md").write_text("# Two\n\nThe lamp is out.\n")
    first = run("source", "push", "Tickets", "t", "--tag", "kind=ticket").stdout
    assert first.count("added") == 2
    assert run("source", "push", "Tickets", "t").stdout.count("unchanged") == 2
    assert "removed" in run("source", "push", "Tickets", "--remove", "2.md").stdout
    assert "tickets/1.md" in run("document", "list", "--source", "Tickets").stdout


def test_documents_are_written_edited_and_compared(
    run: Run, tmp_path: Path, team: TeamSetup
) -> None:
    (tmp_path / "w.md").write_text("# Winter\n\nBoats leave by 1 November.\n")
    assert (
        run("document", "write", "notes/winter.md", "--from", "w.md").stdout
        == "added: notes/winter.md\n"
    )
    team.client.wait_for_document("kb", "notes/winter.md")
    (tmp_path / "w.md").write_text("# Winter\n\nBoats leave by 15 October.\n")
    assert (
        run("document", "edit", "notes/winter.md", "--from", "w.md").stdout
        == "revised: notes/winter.md\n"
    )
    team.client.wait_for_document("kb", "notes/winter.md")
    changes = run("document", "changes", "notes/winter.md").stdout
    assert "- Boats leave by 1 November." in changes
    assert "+ Boats leave by 15 October." in changes
    assert "Set EDITOR" in run("document", "edit", "notes/winter.md", EDITOR="").stderr
    assert run("document", "restore", "notes/winter.md", "1").stdout == "revised: notes/winter.md\n"
    assert "notes" in run("document", "folders").stdout
    assert (
        run("document", "bulk", "tag", "--folder", "notes", "--set", "season=winter").stdout
        == "1 documents tagged.\n"
    )
    assert "Choose documents" in run("document", "bulk", "reread").stderr
    assert "Say which tags" in run("document", "bulk", "tag", "--all").stderr
    assert (
        run("document", "bulk", "delete", "notes/winter.md", "--yes").stdout
        == "1 documents deleted.\n"
    )
