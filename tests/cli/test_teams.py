"""Teams on the command line: retention, and moving a team."""

from __future__ import annotations

from pathlib import Path

from tests.cli.conftest import Run
from tests.conftest import TeamSetup, new_team


def test_retention_is_set_and_shown(run: Run) -> None:
    changed = run("team", "change", "--records-kept-days", 30, "--originals-kept-days", 90)
    assert "records of how answers were made kept for 30 days" in changed.stdout
    assert "originals of earlier revisions kept for 90 days" in changed.stdout
    assert "conversations kept without limit" in changed.stdout
    again = run("team", "change", "--records-kept-days", 0)
    assert "records of how answers were made kept without limit" in again.stdout


def test_an_earlier_revision_is_downloaded(run: Run, storm: str, tmp_path: Path) -> None:
    newer = tmp_path / "storm-plan.md"
    newer.write_text("# Storm plan\n\nThe port stays open.\n")
    run("document", "add", "--kb", storm, newer)
    target = tmp_path / "first.md"
    document = ("document", "download", "--kb", storm, "storm-plan.md", "--to", target)
    assert run(*document, "--revision", 1).returncode == 0
    assert "Outer berth" in target.read_text()
    assert run(*document).returncode == 0
    assert target.read_text() == newer.read_text()
    missing = run(*document, "--revision", 9)
    assert (missing.returncode, "has no revision 9" in missing.stderr) == (2, True)


def test_a_team_is_exported_and_imported(
    run: Run, team: TeamSetup, storm: str, tmp_path: Path
) -> None:
    paused = ("--kind", "webdav", "--set", "url=https://drive.skerrow.example/", "--paused")
    connected = run("source", "connect", "Drive", "--kb", storm, "--adopt", *paused)
    assert "Connected Drive" in connected.stdout, connected.stderr
    path = tmp_path / "team.zip"
    exported = run("team", "export", "--to", path)
    assert "Knowledge bases: 1, desks: 0, question sets: 0." in exported.stdout
    assert "knowledge base" in exported.stderr

    other = new_team(team.service)
    there = {"FONTANEL_KEY": other.key, "FONTANEL_TEAM": other.slug}
    imported = run("team", "import", path, **there)
    assert (imported.returncode, imported.stderr.count("\n")) == (0, 2)
    assert "Added: 2. Already there: 0." in imported.stdout
    assert "paused" in run("source", "list", "--kb", storm, **there).stdout
    again = run("team", "import", path, **there)
    assert "Added: 0. Already there: 2." in again.stdout
    broken = tmp_path / "broken.zip"
    broken.write_bytes(path.read_bytes()[:-100])
    refused = run("team", "import", broken, **there)
    assert (refused.returncode, "not an archive of a team" in refused.stderr) == (1, True)
