"""Operators and owners on the command line: models, usage, members, receivers."""

from __future__ import annotations

import csv
import io
import json
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from fontanel.simulators.ears import WORDS
from tests.cli.conftest import Run
from tests.conftest import Service, TeamSetup, join, new_team, until
from tests.core.reading.test_pictures import word_document
from tests.core.recordings import recording
from tests.servers import simulator

Told = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    # A service of its own: models and the use of teams are those of the whole service.
    started = Service(tmp_path_factory.mktemp("operators") / "data").start()
    yield started
    started.stop()


@pytest.fixture
def operate(run: Run, service: Service) -> Told:
    """Run a command as the operator."""

    def call(*arguments: object) -> subprocess.CompletedProcess[str]:
        return run(
            *arguments,
            "--email",
            "operator@localhost",
            FONTANEL_KEY="",
            FONTANEL_TEAM="",
            FONTANEL_PASSWORD=service.password,
        )

    return call


@pytest.fixture(scope="module")
def model_address() -> Iterator[str]:
    with simulator("model", "--secret", "tide") as url:
        yield f"{url}/v1"


def test_a_model_from_set_up_to_deleted(
    operate: Told, run: Run, team: TeamSetup, model_address: str
) -> None:
    assert "No models" in operate("model", "list").stdout
    made = operate(
        "model",
        "create",
        "harbour",
        "--address",
        model_address,
        "--remote",
        "honest",
        "--secret",
        "guess",
        "--price-read",
        2,
        "--price-written",
        "8.5",
        "--currency",
        "EUR",
        "--tries",
        1,
    )
    assert "harbour is set up" in made.stdout, made.stderr
    refused = operate("model", "check", "harbour")
    assert refused.returncode != 0
    assert "refuses the secret" in refused.stdout
    assert (
        operate("model", "change", "harbour", "--secret", "tide", "--seconds", 20).returncode == 0
    )
    checked = operate("model", "check", "harbour")
    assert checked.returncode == 0, checked.stderr
    listed = operate("model", "list").stdout
    assert "harbour" in listed
    assert "EUR" in listed
    (row,) = json.loads(operate("model", "list", "--json").stdout)
    assert (row["remote"], row["url"]) == ("honest", model_address)
    assert "tide" not in json.dumps(row)
    assert "harbour" in run("model", "usable").stdout
    operate("model", "change", "harbour", "--only-team", new_team(team.service).slug)
    assert "harbour" not in run("model", "usable").stdout
    operate("model", "change", "harbour", "--disable")
    assert "off" in operate("model", "list").stdout
    assert operate("model", "change", "harbour", "--enable").returncode == 0
    assert operate("model", "delete", "harbour", "--yes").returncode == 0
    removed = operate("model", "check", "harbour")
    assert (removed.returncode, "harbour" in removed.stderr) == (3, True)


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (("model", "create", "harbour", "--address", "ftp://127.0.0.1"), "url"),
        (
            (
                "model",
                "create",
                "harbour",
                "--address",
                "http://127.0.0.1:1/v1",
                "--price-read",
                "-1",
            ),
            "price",
        ),
        (("model", "change", "nothing", "--tries", 2), "nothing"),
    ],
)
def test_models_that_make_no_sense_are_refused_in_one_line(
    operate: Told, arguments: tuple[object, ...], said: str
) -> None:
    refused = operate(*arguments)
    assert refused.returncode != 0
    assert said in refused.stderr
    assert len(refused.stderr.strip().splitlines()) <= 2


def test_only_operators_see_models_and_the_use_of_teams(run: Run) -> None:
    for arguments in (("model", "list"), ("model", "check", "x"), ("usage", "teams")):
        refused = run(*arguments)
        assert refused.returncode == 4, refused.stdout
        assert refused.stderr.startswith("fontanel: ")


def test_the_use_of_each_team(operate: Told, run: Run, team: TeamSetup, tmp_path: Path) -> None:
    (tmp_path / "crane.md").write_text(
        "# Crane rules\n\nThe quay crane stops at a gust of 38 knots.\n"
    )
    assert run("kb", "create", "Rules").returncode == 0
    assert run("document", "add", "crane.md").returncode == 0
    assert "38 knots" in run("ask", "At what gust does the quay crane stop?").stdout
    rows = list(csv.DictReader(io.StringIO(operate("usage", "teams", "--csv").stdout)))
    own = next(row for row in rows if team.slug in row.values() or team.name in row.values())
    assert own["questions"] == "1"
    shown = operate("usage", "teams").stdout
    assert team.name in shown
    assert [line for line in shown.splitlines() if line != line.rstrip()] == []
    assert team.slug in {
        row["used"]["key"] for row in json.loads(operate("usage", "teams", "--json").stdout)
    }


def test_members_come_and_go(run: Run, team: TeamSetup) -> None:
    who = f"keeper-{team.slug}@skerrow.example"
    join(team.service, team.client, who, "A keeper")
    assert "reader" in next(
        line for line in run("member", "list").stdout.splitlines() if who in line
    )
    removed = run("member", "remove", who, "--yes")
    assert removed.returncode == 0, removed.stderr
    assert who not in run("member", "list").stdout
    assert run("member", "remove", who, "--yes").returncode == 3


def test_the_last_owner_stays(run: Run, team: TeamSetup) -> None:
    refused = run("member", "remove", team.email, "--yes")
    assert refused.returncode not in (0, 2)
    assert "owner" in refused.stderr
    assert team.email in run("member", "list").stdout


def test_receivers_of_notices_come_and_go(run: Run) -> None:
    added = run("receiver", "add", "http://127.0.0.1:9/hook", "--kind", "sync.finished")
    assert added.returncode == 0, added.stderr
    listed = run("receiver", "list")
    assert "http://127.0.0.1:9/hook" in listed.stdout
    (row,) = json.loads(run("receiver", "list", "--json").stdout)
    assert "secret" not in {key for key, value in row.items() if value}
    assert run("receiver", "remove", row["id"]).returncode == 0
    assert "127.0.0.1:9" not in run("receiver", "list").stdout
    assert run("receiver", "remove", row["id"]).returncode == 3
    wrong = run("receiver", "add", "http://127.0.0.1:9/hook", "--kind", "no.such.kind")
    assert wrong.returncode != 0
    assert "sync.finished" in wrong.stderr
    assert run("notice", "list").returncode == 0


def test_a_model_s_name_may_hold_what_paths_do_not(operate: Told, model_address: str) -> None:
    assert (
        operate(
            "model",
            "create",
            "harbour/large",
            "--address",
            model_address,
            "--secret",
            "tide",
            "--remote",
            "honest",
        ).returncode
        == 0
    )
    assert operate("model", "check", "harbour/large").returncode == 0
    assert operate("model", "change", "harbour/large", "--seconds", 9).returncode == 0
    assert operate("model", "delete", "harbour/large", "--yes").returncode == 0


@pytest.fixture(scope="module")
def embedding_address() -> Iterator[str]:
    with simulator("embedder", "--secret", "tide", "--dimensions", "128") as url:
        yield f"{url}/v1"


def test_a_build_pauses_at_its_budget(
    operate: Told, run: Run, team: TeamSetup, embedding_address: str
) -> None:
    kb = team.client.create_kb("Large").slug
    for number in range(4):
        words = " ".join(f"word{number}x{word}" for word in range(500))
        team.client.write_document(kb, f"rules-{number}.md", f"# Rules {number}\n\n{words}\n")
    for number in range(4):
        team.client.wait_for_document(kb, f"rules-{number}.md")
    made = operate(
        "embedder", "register", "dear", "--address", embedding_address, "--remote", "uncut",
        "--secret", "tide", "--price", "1000", "--dimensions", "64",
    )  # fmt: skip
    assert "dear is registered, with 64 dimensions" in made.stdout, made.stderr
    assert "64 of 128" in operate("embedder", "list").stdout
    built = run("edition", "build", "--kb", kb, "--embedder", "dear", "--budget", "1")
    assert built.returncode == 1
    assert "Edition 2 is paused" in built.stdout
    assert "Its budget is used up" in built.stdout
    assert "of 1.00 EUR" in built.stdout
    assert "budget used up" in run("edition", "list", "--kb", kb).stdout
    refused = run("edition", "resume", "--kb", kb, "2", "--budget", "0.01")
    assert "Name a larger budget" in refused.stderr
    resumed = run("edition", "resume", "--kb", kb, "2", "--budget", "1000")
    assert "Edition 2 is being built" in resumed.stdout, resumed.stderr
    until(lambda: team.client.list_editions(kb)[1].state == "ready")
    assert "dear" in run("usage", "show", "--by", "model").stdout
    assert "documents without a source" in run("usage", "show", "--by", "source").stdout
    team.client.delete_kb(kb)
    assert operate("embedder", "delete", "dear", "--yes").returncode == 0


def test_an_embedder_from_registered_to_deleted(
    operate: Told, run: Run, team: TeamSetup, storm: str, embedding_address: str
) -> None:
    assert "No embedders are registered" in operate("embedder", "list").stdout
    where = ("--address", embedding_address, "--remote", "words")
    refused = operate("embedder", "register", "words", *where)
    assert refused.returncode == 1
    assert "it refuses the secret" in refused.stderr
    made = operate(
        "embedder", "register", "words", *where, "--secret", "tide", "--price", "0.5",
        "--batch", "16", "--only-team", team.slug,
    )  # fmt: skip
    assert "words is registered, with 128 dimensions" in made.stdout, made.stderr
    assert "tide" not in operate("embedder", "list", "--json").stdout
    assert "It gives vectors" in operate("embedder", "check", "words").stdout
    assert "0.5 EUR" in run("embedder", "usable").stdout
    estimate = run("edition", "estimate", "--kb", storm, "--embedder", "words")
    assert "less than 0.01 EUR" in estimate.stdout
    built = run("edition", "build", "--kb", storm, "--embedder", "words")
    assert "Edition 2 is ready" in built.stdout, built.stderr
    assert "words" in run("edition", "list", "--kb", storm).stdout
    assert "about" in run("edition", "estimate", "--kb", storm, "--embedder", "words").stdout
    done = run("edition", "pause", "--kb", storm, "2")
    assert done.returncode == 1
    assert "Edition 2 is not being built" in done.stderr
    in_use = operate("embedder", "delete", "words", "--yes")
    assert in_use.returncode == 1
    assert "words is used by Harbour rules" in in_use.stderr
    run("edition", "activate", "--kb", storm, "2")
    assert operate("embedder", "change", "words", "--disable").returncode == 0
    assert (
        "words: it is switched off; searches use keywords only" in run("kb", "show", storm).stdout
    )
    assert "Say what to change" in operate("embedder", "change", "words").stderr
    operate("embedder", "change", "words", "--enable", "--secret", "wrong")
    failed = operate("embedder", "check", "words")
    assert failed.returncode == 1
    assert "It gives no vectors: it refuses the secret" in failed.stdout
    run("kb", "delete", storm, "--yes")
    assert operate("embedder", "delete", "words", "--yes").stdout == "Removed.\n"


def test_a_transcriber_from_registered_to_deleted(
    operate: Told, run: Run, team: TeamSetup, storm: str, tmp_path: Path
) -> None:
    notice = tmp_path / "notice.mp3"
    notice.write_bytes(recording(WORDS[:6], "mp3"))
    waiting = run("document", "add", "--kb", storm, notice)
    assert "1 without a transcript" in waiting.stdout
    assert "notice.mp3: It has no subtitles. Choose a transcriber" in waiting.stderr
    assert "1 need a transcript" in run("kb", "show", storm).stdout
    assert (
        "needs transcript: It has no" in run("document", "show", "--kb", storm, "notice.mp3").stdout
    )
    assert "recordings without subtitles wait" in run("transcriber", "usable").stdout
    assert "No transcribers are registered" in operate("transcriber", "list").stdout
    with simulator("ears", "--secret", "tide") as url:
        where = ("--address", f"{url}/v1", "--remote", "tones")
        refused = operate("transcriber", "register", "ears", *where)
        assert "it refuses the secret" in refused.stderr
        made = operate(
            "transcriber", "register", "ears", *where, "--secret", "tide", "--price", "0.5"
        )
        assert "ears is registered" in made.stdout, made.stderr
        assert "tide" not in operate("transcriber", "list", "--json").stdout
        assert "It transcribes" in operate("transcriber", "check", "ears").stdout
        assert "0.5 EUR a minute" in run("transcriber", "usable").stdout
        run("kb", "change", storm, "--transcriber", "ears", "--spoken", "en")
        assert "by ears, in en" in run("kb", "show", storm).stdout
        team.client.wait_for_document(storm, "notice.mp3")
        shown = run("document", "show", "--kb", storm, "notice.mp3").stdout
        assert "0:06" in shown
        assert "1 cue" in shown
    away = operate("transcriber", "check", "ears")
    assert (away.returncode, "cannot be reached" in away.stdout) == (1, True)
    assert "Say what to change" in operate("transcriber", "change", "ears").stderr
    assert operate("transcriber", "change", "ears", "--part-seconds", "60").returncode == 0
    in_use = operate("transcriber", "delete", "ears", "--yes")
    assert "ears is the transcriber of 1 knowledge bases" in in_use.stderr
    run("kb", "change", storm, "--transcriber", "none", "--spoken", "any")
    assert operate("transcriber", "delete", "ears", "--yes").stdout == "Removed.\n"


def test_pictures_are_estimated_described_and_cited(
    operate: Told, run: Run, team: TeamSetup, storm: str, tmp_path: Path
) -> None:
    path = tmp_path / "crane.docx"
    path.write_bytes(word_document("red", "blue"))
    run("document", "add", "--kb", storm, path)
    assert "not described" in run("kb", "show", storm).stdout
    with simulator("eyes") as url:
        made = operate(
            "model", "create", "eyes", "--address", f"{url}/v1", "--remote", "colours",
            "--price-read", "4",
        )  # fmt: skip
        assert made.returncode == 0, made.stderr
        estimate = run("kb", "pictures", storm, "--model", "eyes").stdout
        assert "2 pictures in 1 documents are not described by eyes" in estimate
        assert "less than 0.01 EUR" in estimate
        run("kb", "change", storm, "--viewer", "eyes", "--max-pictures", "7")
        until(lambda: "eyes: 2 described; at most 7" in run("kb", "show", storm).stdout)
        until(lambda: "2 figures" in run("document", "show", "--kb", storm, "crane.docx").stdout)
    answer = run("ask", "--kb", storm, "Which picture has blue on it?").stdout
    assert "picture, described by eyes" in answer
    assert "describing pictures" in run("usage", "show", "--by", "member").stdout
