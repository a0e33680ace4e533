"""The command line as a process: output, exit codes, profiles, completion."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.cli.conftest import Run
from tests.conftest import DOCUMENTS, ROOT, STORM, Service, TeamSetup, free_port


def test_from_nothing_to_a_cited_answer(run: Run, tmp_path: Path) -> None:
    assert "No knowledge base yet" in run("kb", "list").stdout
    assert "Created harbour-rules" in run("kb", "create", "Harbour rules").stdout
    assert "nothing to answer from" in run("ask", "At what gust does the quay crane stop?").stdout
    (tmp_path / "storm-plan.md").write_bytes(STORM)
    added = run("document", "add", "storm-plan.md", "--tag", "year=2024")
    assert (added.returncode, added.stdout) == (0, "1 added.\n")
    listed = run("document", "list").stdout
    assert "storm-plan.md" in listed
    assert "indexed" in listed
    answer = run("ask", "At what gust does the quay crane stop?")
    assert answer.returncode == 0
    assert (
        "The quay crane stops at a gust of 38 knots and is pinned at 44 knots. [1]" in answer.stdout
    )
    assert "[1] Storm plan" in answer.stdout
    assert "“The quay crane stops at a gust of 38 knots" in answer.stdout
    assert "\x1b" not in answer.stdout
    result = run("search", "quay crane gust", "--limit", "1").stdout
    assert "Storm plan" in result
    assert "%" in result


def test_json_everywhere(run: Run, team: TeamSetup, storm: str) -> None:
    kb = ("--kb", storm)
    commands = [
        ("kb", "list"),
        ("kb", "show", storm),
        ("document", "list", *kb),
        ("document", "show", "storm-plan.md", *kb),
        ("document", "text", "storm-plan.md", *kb),
        ("document", "passages", "storm-plan.md", *kb),
        ("search", "crane", *kb),
        ("ask", "At what gust does the quay crane stop?", *kb),
        ("conversation", "list", *kb),
        ("team", "list"),
        ("member", "list"),
        ("key", "list"),
        ("whoami",),
        ("key", "make", "another"),
        ("invitation", "create", f"x{os.getpid()}@skerrow.example", "X"),
        ("invitation", "list"),
        ("document", "tag", "storm-plan.md", "a=b", *kb),
        ("kb", "create", "Second"),
        ("kb", "rename", "second", "Third"),
    ]
    for command in commands:
        done = run(*command, "--json")
        assert done.returncode == 0, (command, done.stderr)
        json.loads(done.stdout)


def test_a_folder_is_added_with_its_paths_and_again_changes_nothing(
    run: Run, team: TeamSetup, kb: str, tmp_path: Path
) -> None:
    (tmp_path / "rules" / "old").mkdir(parents=True)
    (tmp_path / "rules" / "storm.md").write_bytes(STORM)
    (tmp_path / "rules" / "old" / "storm.md").write_bytes(STORM + b"\nOld.\n")
    (tmp_path / "rules" / ".hidden").write_text("no")
    assert run("document", "add", "rules").stdout == "2 added.\n"
    assert run("document", "add", "rules").stdout == "2 unchanged.\n"
    assert [document.name for document in team.client.list_documents(kb)] == [
        "old/storm.md",
        "storm.md",
    ]


def test_a_file_that_fails_is_told_and_its_neighbours_are_added(
    run: Run, kb: str, tmp_path: Path
) -> None:
    (tmp_path / "good.md").write_bytes(STORM)
    (tmp_path / "bad.pdf").write_bytes(b"%PDF-1.7 nothing")
    done = run("document", "add", "good.md", "bad.pdf")
    assert done.returncode == 1
    assert done.stdout == "2 added, 1 failed.\n"
    assert "fontanel: bad.pdf: The PDF is damaged" in done.stderr
    assert run("document", "retry", "bad.pdf").returncode == 1


def test_a_file_can_be_asked_before_anything_is_built(run: Run, team: TeamSetup) -> None:
    done = run(
        "ask",
        "--file",
        DOCUMENTS / "passenger-services" / "vehicles.md",
        "What does a motorcycle cost?",
    )
    assert "14 crowns" in done.stdout
    tried = team.client.list_kbs()
    assert len(tried) == 1
    assert tried[0].expires_at is not None
    assert run("ask", "--file", "missing.pdf", "What?").returncode == 2


def test_a_conversation_goes_on(run: Run, storm: str) -> None:
    first = json.loads(run("ask", "At what gust does the quay crane stop?", "--json").stdout)
    second = run("ask", "And when is it pinned?", "--conversation", first["conversation_id"])
    understood = " ".join(second.stdout.split())
    assert "is it pinned? (following on from: At what gust does the quay crane stop?)" in understood
    shown = run("conversation", "show", first["conversation_id"]).stdout
    assert "At what gust does the quay crane stop?" in shown
    assert "And when is it pinned?" in shown
    assert "'Cranes'" in run("conversation", "rename", first["conversation_id"], "Cranes").stdout
    assert "Cranes" in run("conversation", "list", "--text", "pinned").stdout
    assert "None mentions it" in run("conversation", "list", "--text", "herring").stdout
    assert run("conversation", "export", first["conversation_id"]).stdout.startswith(
        "# Cranes\n\n## At what gust"
    )
    assert run("conversation", "delete", first["conversation_id"], "--yes").returncode == 0


def test_documents_can_be_shown_saved_and_deleted(run: Run, storm: str, tmp_path: Path) -> None:
    assert "revision" in run("document", "show", "storm-plan.md").stdout
    assert run("document", "text", "storm-plan.md").stdout.startswith("Storm plan\n\nIn force")
    assert "tokens)" in run("document", "passages", "storm-plan.md").stdout
    assert run("document", "download", "storm-plan.md").returncode == 0
    assert (tmp_path / "storm-plan.md").read_bytes() == STORM
    assert run("document", "download", "storm-plan.md").returncode == 2
    assert run("document", "delete", "storm-plan.md", "--yes").returncode == 0
    assert "No documents" in run("document", "list").stdout


@pytest.mark.parametrize(
    ("command", "code", "words"),
    [
        (("kb", "show", "no-such"), 3, "There is no knowledge base 'no-such'"),
        (("kb",), 2, "verbs"),
        (("kb", "paint"), 2, "invalid choice"),
        (("ask", "x", "--kb", "no-such"), 3, "no knowledge base"),
        (("search", "", "--kb", "any"), 2, "question"),
        (("document", "add", "missing.txt"), 2, "There is no file missing.txt"),
        (("document", "tag", "x", "oops"), 2, "Write key=value"),
        (("kb", "delete", "no-such", "--yes"), 3, "no knowledge base"),
    ],
)
def test_errors_are_one_line_and_have_their_code(
    run: Run, kb: str, command: tuple[str, ...], code: int, words: str
) -> None:
    done = run(*command)
    assert done.returncode == code
    assert words in done.stderr
    if command != ("kb",):
        assert len(done.stderr.strip().splitlines()) == 1
    assert done.stdout == ""


def test_codes_for_no_rights_and_no_service(run: Run, team: TeamSetup, kb: str) -> None:
    assert run("kb", "list", FONTANEL_KEY="fk_wrong").returncode == 4
    reader = team.client.make_key("reader").secret
    assert run("kb", "create", "X", FONTANEL_KEY=reader).returncode == 4
    away = run("kb", "list", FONTANEL_URL=f"http://127.0.0.1:{free_port()}")
    assert away.returncode == 5
    assert "fontanel serve" in away.stderr
    keyless = run("kb", "list", FONTANEL_KEY="")
    assert keyless.returncode == 2
    assert "sign-in" in keyless.stderr


def test_two_knowledge_bases_must_be_told_apart(run: Run, team: TeamSetup, kb: str) -> None:
    team.client.create_kb("Second")
    done = run("ask", "x")
    assert done.returncode == 2
    assert "There are: harbour-rules, second." in done.stderr
    assert run("ask", "x", FONTANEL_KB="second").returncode == 0


def test_a_profile_keeps_what_would_have_to_be_said_each_time(
    run: Run, team: TeamSetup, kb: str, tmp_path: Path
) -> None:
    kept = run("sign-in", "--kb", kb)
    assert kept.returncode == 0
    profile = tmp_path / ".config" / "fontanel" / "profile.toml"
    assert profile.stat().st_mode & 0o777 == 0o600
    bare = {"FONTANEL_URL": "", "FONTANEL_KEY": "", "FONTANEL_TEAM": ""}
    assert team.name in run("whoami", **bare).stdout
    assert run("document", "list", **bare).returncode == 0
    profile.write_text("not = [toml")
    assert run("whoami", **bare).returncode == 2


def test_an_operator_builds_a_team(run: Run, service: Service, tmp_path: Path) -> None:
    operator = {"FONTANEL_KEY": "", "FONTANEL_TEAM": "", "FONTANEL_PASSWORD": service.password}
    name = f"Lock keepers {os.getpid()} {tmp_path.name}"
    made = run("team", "create", name, "--email", "operator@localhost", **operator)
    assert made.returncode == 0, made.stderr
    slug = made.stdout.split()[1].rstrip(".")
    who = f"{slug}@skerrow.example"
    invited = run(
        "invitation",
        "create",
        who,
        "A keeper",
        "--role",
        "owner",
        "--team",
        slug,
        "--email",
        "operator@localhost",
        **operator,
    )
    assert "is not shown again" in invited.stdout
    assert (
        who
        in run(
            "invitation", "list", "--team", slug, "--email", "operator@localhost", **operator
        ).stdout
    )
    assert run("team", "create", "X", FONTANEL_TEAM="").returncode == 4
    assert run("whoami", "--email", "operator@localhost", FONTANEL_KEY="").returncode == 2


def test_keys_are_made_and_revoked(run: Run, kb: str) -> None:
    made = run("key", "make", "nightly", "--role", "editor", "--only", kb, "--days", "7")
    assert made.stdout.startswith("fk_")
    listed = run("key", "list").stdout
    assert "nightly" in listed
    identity = next(line.split()[0] for line in listed.splitlines() if "nightly" in line)
    assert run("key", "revoke", identity, "--yes").returncode == 0
    assert "nightly" not in run("key", "list").stdout


def test_a_lost_password_is_replaced_on_the_machine_itself(tmp_path: Path, run: Run) -> None:
    service = Service(tmp_path / "data").start()
    service.stop()
    done = run("operator", "password", "operator@localhost", "--data", service.data)
    service.password = done.stdout.split()[-1]
    service.start()
    assert service.operator().session().operator
    service.stop()
    assert run("operator", "password", "nobody@localhost", "--data", service.data).returncode == 2


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_completion_knows_every_command(run: Run, shell: str) -> None:
    script = run("completion", shell).stdout
    for word in ("document", "search", "ask", "retry", "per-document"):
        assert word in script


def test_completion_completes_in_bash(run: Run, tmp_path: Path) -> None:
    (tmp_path / "complete.sh").write_text(run("completion", "bash").stdout)
    code = (
        "source complete.sh; COMP_WORDS=(fontanel document ret); COMP_CWORD=2; _shtab_fontanel;"
        ' echo "${COMPREPLY[@]}"'
    )
    done = subprocess.run(
        ["bash", "-c", code], capture_output=True, text=True, cwd=tmp_path, check=True
    )
    assert done.stdout.strip() == "retry"


def test_reference_pages_are_what_the_code_says() -> None:
    made = subprocess.run(
        [
            sys.executable,
            "-c",
            (
                "import sys; sys.path.insert(0, 'tools'); import write_reference as w; import json;"
                "print(json.dumps({name: make() for name, make in w.PAGES.items()}))"
            ),
        ],
        capture_output=True,
        text=True,
        cwd=ROOT,
        check=True,
    )
    for name, text in json.loads(made.stdout).items():
        assert (ROOT / "docs" / name).read_text() == text, "run `make reference`"


def test_a_search_says_how_scores_came_about(run: Run, tmp_path: Path) -> None:
    run("kb", "create", "Rules")
    (tmp_path / "storm.md").write_bytes(STORM)
    run("document", "add", "storm.md")
    shown = run("search", "wnid limit", "--explain")
    assert "no passage has 'wnid'; searched for wind" in shown.stderr
    assert "keywords 0." in shown.stdout
    assert "weight" in shown.stdout
    assert ", evidence 0." in run("search", "When does the crane stop?", "--deep").stdout
    assert run("search", "wind", "--boost", "kind").returncode == 2
    assert "Nothing found" in run("search", '"limit wind the"').stdout


def test_editions_are_built_compared_switched_and_taken_along(run: Run, tmp_path: Path) -> None:
    run("kb", "create", "Rules")
    (tmp_path / "storm.md").write_bytes(STORM)
    run("document", "add", "storm.md")
    assert run("edition", "build").returncode == 2
    assert (
        "Edition 2 is ready"
        in run("edition", "build", "--target", "60", "--min-tokens", "20").stdout
    )
    listed = run("edition", "list").stdout
    assert "active" in listed
    assert "60 tokens" in listed
    (tmp_path / "asked.jsonl").write_text(
        '{"question": "wind limit", "document": "storm.md"}\nwhen do cranes stop\n'
    )
    compared = run("edition", "compare", "1", "2", "--file", "asked.jsonl").stdout
    assert "storm.md (expected: 1)" in compared
    assert "Mean reciprocal rank of the expected: 1.000 and 1.000" in compared
    assert run("edition", "activate", "2").stdout == "Edition 2 is active now.\n"
    assert run("edition", "drop", "2", "--yes").returncode == 1
    assert "Wrote rules.zip" in run("edition", "export", "2", "rules.zip").stdout
    assert "is there already" in run("edition", "export", "2", "rules.zip").stderr
    assert (
        "Imported rules-two: 1 document"
        in run("edition", "import", "rules.zip", "--name", "Rules two").stdout
    )
    assert run("edition", "drop", "1", "--kb", "rules", "--yes").stdout == "Edition 1 is dropped.\n"
