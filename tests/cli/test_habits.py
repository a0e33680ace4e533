"""Habits of a good command: it asks before deleting, and works in pipes and scripts."""

from __future__ import annotations

import json
import os
import pty
import subprocess
from pathlib import Path

import pytest

from tests.cli.conftest import Run
from tests.conftest import STORM, TeamSetup
from tests.processes.forked import launcher

QUESTION = "At what gust does the quay crane stop?"


@pytest.mark.parametrize(
    "command",
    [
        ("kb", "delete", "harbour-rules"),
        ("document", "delete", "storm-plan.md"),
        ("edition", "drop", "2"),
        ("conversation", "delete", "conv_x"),
        ("desk", "delete", "desk"),
        ("desk", "unlink", "desk", "Crew"),
        ("key", "revoke", "key_x"),
        ("member", "remove", "varda@skerrow.example"),
        ("model", "delete", "writer"),
        ("document", "bulk", "delete", "--all"),
    ],
    ids=" ".join,
)
def test_what_deletes_asks_first(run: Run, storm: str, command: tuple[str, ...]) -> None:
    refused = run(*command)
    assert (refused.returncode, refused.stdout) == (2, "")
    assert "Pass --yes" in refused.stderr
    assert "storm-plan.md" in run("document", "list").stdout


@pytest.mark.parametrize(("reply", "left"), [("n", 1), ("y", 0)])
def test_a_person_is_asked_on_a_terminal(
    team: TeamSetup, storm: str, reply: str, left: int
) -> None:
    terminal, other = pty.openpty()
    environment = {
        **os.environ,
        "FONTANEL_URL": team.service.url,
        "FONTANEL_KEY": team.key,
        "FONTANEL_TEAM": team.slug,
    }
    command = [str(launcher()), "document", "delete", "storm-plan.md"]
    os.write(terminal, f"{reply}\n".encode())
    done = subprocess.run(command, stdin=other, capture_output=True, text=True, env=environment)
    assert "Delete storm-plan.md? [y/N]" in done.stdout
    assert len(list(team.client.list_documents(storm))) == left


def test_the_reader_of_a_pipe_may_leave(team: TeamSetup, storm: str) -> None:
    environment = {
        **os.environ,
        "FONTANEL_URL": team.service.url,
        "FONTANEL_KEY": team.key,
        "FONTANEL_TEAM": team.slug,
    }
    for command in ("document text storm-plan.md", "document list --json", "--help"):
        line = f"set -o pipefail; {launcher()} {command} | true"
        done = subprocess.run(["bash", "-c", line], capture_output=True, text=True, env=environment)
        assert done.stderr == ""


def test_tags_are_added_changed_and_removed_by_name(run: Run, storm: str) -> None:
    assert run("document", "tag", "storm-plan.md", "status=in force").returncode == 0
    shown = run("document", "tag", "storm-plan.md", "year=2025").stdout
    assert shown == "storm-plan.md: year=2025, status=in force\n"
    assert run("document", "tag", "storm-plan.md", "--remove", "year").stdout.endswith(
        "status=in force\n"
    )
    missing = run("document", "tag", "storm-plan.md", "--remove", "year")
    assert (missing.returncode, "has no tag 'year'" in missing.stderr) == (2, True)
    assert run("document", "tag", "storm-plan.md", "a=b", "--replace").stdout.endswith(": a=b\n")


def test_a_file_is_uploaded_once_however_often_it_is_asked(
    run: Run, team: TeamSetup, storm: str, tmp_path: Path
) -> None:
    path = tmp_path / "rules.md"
    path.write_bytes(STORM)
    first = run("ask", "--file", path, QUESTION).stdout
    assert "38 knots" in first
    assert "38 knots" in run("ask", "--file", path, QUESTION).stdout
    assert len(team.client.list_kbs()) == 2
    follow_up = first.rpartition("Ask a follow-up with ")[2].split()
    assert follow_up[0] == "--kb"
    assert "44 knots" in run("ask", *follow_up, "At what gust is it pinned?").stdout
    assert "Try rules.md" not in run("kb", "list").stdout
    assert "Try rules.md" in run("kb", "list", "--all").stdout


def test_an_editor_needs_no_terminal(run: Run, team: TeamSetup, kb: str, tmp_path: Path) -> None:
    team.client.write_document(kb, "note.md", "# Lock\n\nIt opens at six.\n")
    editor = tmp_path / "an editor"
    editor.write_text('#!/bin/sh\nsed -i s/six/seven/ "$1"\n')
    editor.chmod(0o755)
    quoted = f"'{editor}'"
    assert run("document", "edit", "note.md", EDITOR=quoted).stdout == "revised: note.md\n"
    assert team.client.written_text(kb, "note.md").text == "# Lock\n\nIt opens at seven.\n"
    assert "unchanged" in run("document", "edit", "note.md", EDITOR="true").stdout
    failed = run("document", "edit", "note.md", EDITOR="false")
    assert (failed.returncode, "Nothing was changed" in failed.stderr) == (2, True)
    assert "Set EDITOR" in run("document", "edit", "note.md").stderr


def test_removed_documents_and_long_reasons_have_their_place(
    run: Run, team: TeamSetup, kb: str
) -> None:
    assert run("document", "list", "--state", "removed").returncode == 0
    team.client.add_document(kb, b"%PDF-1.4 " + b"x" * 300, "broken.pdf")
    team.client.wait_for_document(kb, "broken.pdf")
    listed = run("document", "list").stdout
    reason = team.client.show_document(kb, "broken.pdf").error or ""
    assert max(map(len, listed.splitlines())) < 160
    assert reason[:20] in listed
    assert " ".join(reason.split()[-3:]) in " ".join(
        run("document", "show", "broken.pdf").stdout.split()
    )


def test_editions_show_their_vectors_and_questions_only_what_they_know(
    run: Run, storm: str, tmp_path: Path
) -> None:
    assert run("edition", "build", "--no-windows", "--compact").returncode == 0
    listed = run("edition", "list").stdout
    assert "no windows, compact" in listed
    questions = tmp_path / "questions.jsonl"
    questions.write_text(json.dumps({"question": QUESTION, "expected": "storm-plan.md"}) + "\n")
    refused = run("edition", "compare", "1", "2", "--file", questions)
    assert (refused.returncode, "expected mean" in refused.stderr) == (2, True)
