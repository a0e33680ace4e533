"""The audit log, backups and receipts on the command line."""

from __future__ import annotations

import json
import sqlite3
import subprocess
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import pytest

from tests.cli.conftest import Run
from tests.conftest import EMBEDDER, EVIDENCE, STORM, Service, TeamSetup, join, until

KEY = "slack water"
QUESTION = "What is the wind limit at the outer berth?"


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("operating")
    environment = {"FONTANEL_BACKUP": str(folder / "backups"), "FONTANEL_BACKUP_KEY": KEY}
    started = Service(folder / "data", environment).start()
    yield started
    started.stop()


@pytest.fixture
def operate(run: Run, service: Service) -> Callable[..., subprocess.CompletedProcess[str]]:
    """Run a command as the operator."""

    def call(*arguments: object) -> subprocess.CompletedProcess[str]:
        as_operator = ("--email", "operator@localhost")
        environment = {"FONTANEL_KEY": "", "FONTANEL_PASSWORD": service.password}
        return run(*arguments, *as_operator, **environment)

    return call


def test_the_log_is_listed_exported_and_verified(
    run: Run, operate: Run, team: TeamSetup, tmp_path: Path
) -> None:
    run("kb", "create", "Port rules")
    run("member", "change", team.email, "--role", "reader")
    listed = run("audit", "list", "--action", "kb.").stdout
    assert "key tests" in listed
    assert "knowledge base created" in listed
    assert "No entry." in run("audit", "list", "--actor", "nobody at all").stdout
    assert json.loads(run("audit", "list", "--limit", 1, "--json").stdout)[0]["hash"]

    lines = run("audit", "export").stdout
    path = tmp_path / "audit.jsonl"
    path.write_text(lines)
    checked = run("audit", "verify", path)
    assert (checked.returncode, "the chain is whole" in checked.stdout) == (0, True)
    path.write_text(lines.replace('"kb.create"', '"kb.change"'))
    checked = run("audit", "verify", path)
    assert checked.returncode == 1
    assert "it was changed" in checked.stdout
    path.write_text("not JSON")
    assert "is not JSON" in run("audit", "verify", path).stderr
    assert run("audit", "export", "--csv").stdout.startswith("log,number,at,")
    assert "whole" in run("audit", "verify").stdout

    everything = operate("audit", "list", "--all", "--log", "service", "--action", "session.")
    assert "session.sign-in" in everything.stdout
    assert "whole" in operate("audit", "verify", "--all").stdout


def test_a_backup_is_taken_listed_verified_and_restored(
    run: Run, operate: Run, team: TeamSetup, service: Service, tmp_path: Path
) -> None:
    team.client.create_kb("Harbour rules")
    team.client.add_document("harbour-rules", STORM, "storm-plan.md", wait=True)
    taken = operate("backup", "start", "--wait")
    assert taken.returncode == 0, taken.stderr
    assert "opened, and asked about storm-plan.md" in taken.stdout
    assert "done" in operate("backup", "list").stdout
    place = service.environment["FONTANEL_BACKUP"]
    key = {"FONTANEL_BACKUP_KEY": KEY}
    assert team.slug in run("backup", "contents", "--from", place, **key).stdout
    models = {"FONTANEL_EMBEDDER": str(EMBEDDER), "FONTANEL_EVIDENCE": str(EVIDENCE)}
    verified = run("backup", "verify", "--from", place, **key, **models)
    assert "all contents read" in verified.stdout, verified.stderr
    restored = run("restore", "copy", "--from", place, "--only-team", team.slug, **key)
    assert restored.returncode == 0, restored.stderr
    copy = Service(tmp_path / "copy", key).start()
    copy.stop()
    with closing(sqlite3.connect(tmp_path / "copy" / "fontanel.db")) as records:
        query = "SELECT target FROM audit_entries WHERE action = 'backup.restore'"
        [(backup,)] = records.execute(query).fetchall()
    assert backup in run("backup", "contents", "--from", place, **key).stdout
    for options, message in (
        (("copy", "--from", place), "is not empty"),
        (("other", "--from", place, "--backup", "2026"), "no backup '2026'"),
        (("other", "--from", str(tmp_path)), "no backups in this place"),
        (("other",), "No place for backups is set"),
    ):
        refused = run("restore", *options, **key)
        assert refused.returncode != 0
        assert message in refused.stderr
        assert "Traceback" not in refused.stderr


def test_a_receipt_is_exported_and_verified(
    run: Run, team: TeamSetup, storm: str, tmp_path: Path
) -> None:
    answer = team.client.ask(storm, QUESTION)
    (tmp_path / "receipt.json").write_text(run("receipt", "export", answer.turn_id).stdout)
    (tmp_path / "key.json").write_text(run("receipt", "key").stdout)
    (tmp_path / "storm.md").write_bytes(STORM)
    (tmp_path / "other.md").write_bytes(STORM + b" ")
    verified = run("receipt", "verify", "receipt.json", "--key", "key.json")
    assert verified.returncode == 0, verified.stderr
    assert "this service issued the receipt" in verified.stdout
    assert QUESTION in verified.stdout
    assert "Compare that with the 'kid'" in run("receipt", "verify", "receipt.json").stdout
    cited = run("receipt", "verify", "receipt.json", "--document", "storm.md")
    assert "is the very file that citation 1" in cited.stdout
    missing = run("receipt", "verify", "receipt.json", "--document", "other.md")
    assert missing.returncode == 1
    assert "None of the citations" in missing.stdout
    (tmp_path / "wrong.json").write_text("{}")
    refused = run("receipt", "verify", "wrong.json")
    assert refused.returncode != 0
    assert "not a receipt" in refused.stderr


def test_quotas_are_set_by_operators_and_shown_to_members(
    run: Run, operate: Run, team: TeamSetup
) -> None:
    assert "5.0 GB" in operate("quota", "defaults", "--bytes", "5G").stdout
    changed = operate("quota", "set", team.slug, "--documents", "2,000", "--questions", "none")
    assert "2,000" in changed.stdout
    shown = {
        one["name"]: one for one in json.loads(run("quota", "show", "--json").stdout)["quotas"]
    }
    assert (shown["documents"]["limit"], shown["documents"]["own"]) == (2000, True)
    assert (shown["bytes"]["limit"], shown["bytes"]["own"]) == (5_000_000_000, False)
    operate("quota", "set", team.slug, "--documents", "default")
    assert "2,000" not in run("quota", "show").stdout
    assert team.slug in operate("quota", "list").stdout
    assert run("quota", "set", team.slug, "--documents", "3").returncode == 4
    wrong = operate("quota", "set", team.slug, "--documents", "lots")
    assert (wrong.returncode, "takes a number" in wrong.stderr) == (2, True)
    operate("quota", "defaults", "--bytes", "none")


def test_a_document_is_erased_on_the_command_line(run: Run, storm: str) -> None:
    assert "No document was erased" in run("document", "erasures").stdout
    erase = ("document", "erase", "--kb", storm, "storm-plan.md", "--yes", "--no-wait")
    erased = run(*erase).stdout
    assert "documents: 1" in erased
    assert "Files are being deleted" in erased
    until(lambda: "being cleared" not in run("document", "erasures").stdout)
    assert run(*erase).returncode == 3


def test_a_person_is_erased_on_the_command_line(
    operate: Run, team: TeamSetup, service: Service
) -> None:
    join(service, team.client, "leaving@skerrow.example", "Leaving Person", "reader")
    erased = operate("person", "erase", "leaving@skerrow.example", "--yes").stdout
    assert "account: 1" in erased
    assert "Leaving" not in operate("person", "erasures").stdout
    assert operate("person", "erase", "leaving@skerrow.example", "--yes").returncode == 3
