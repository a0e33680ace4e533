"""Proposed documents on the command line."""

from __future__ import annotations

import json
from pathlib import Path

from tests.cli.conftest import Run
from tests.conftest import TeamSetup

NOTE = "# Fenders\n\nThe spare fenders are in shed 4 [north].\n"


def test_documents_are_proposed_read_and_decided(
    run: Run, team: TeamSetup, kb: str, tmp_path: Path
) -> None:
    def ok(*arguments: object) -> str:
        result = run("document", *arguments, "--kb", kb)
        assert result.returncode == 0, result.stderr
        return result.stdout

    note = tmp_path / "note.md"
    note.write_text(NOTE)
    refused = run("document", "propose", "fenders.md", "--from", note, "--kb", kb)
    assert refused.returncode == 1
    assert "does not accept proposed documents" in refused.stderr
    assert run("kb", "change", kb, "--accept-proposed-documents", "yes").returncode == 0
    assert "accepted, none waiting" in run("kb", "show", kb).stdout

    first = ok("propose", "fenders.md", "--from", note, "--reason", "Said by the foreman")
    assert "Proposed fenders.md (a new document)" in first
    (listed,) = json.loads(ok("proposed", "--json"))
    assert "Said by the foreman" in ok("proposed")
    assert "in shed 4 [north]" in ok("proposed", listed["id"])
    assert "added: fenders.md" in ok("accept", listed["id"])
    team.client.wait_for_document(kb, "fenders.md")

    note.write_text(NOTE.replace("shed 4", "shed 5"))
    assert "another text for this document" in ok("propose", "fenders.md", "--from", note)
    assert "1 waiting" in run("kb", "show", kb).stdout
    (second,) = json.loads(ok("proposed", "--json"))
    assert "Dismissed fenders.md." in ok("dismiss", second["id"], "--note", "Not in shed 5")
    dismissed = ok("proposed", "--state", "dismissed")
    assert "Not in shed 5" in dismissed
    assert "fenders.md" in dismissed
    assert "was dismissed" in ok("proposed", second["id"])
    again = run("document", "accept", second["id"], "--kb", kb)
    assert "was dismissed by" in again.stderr
