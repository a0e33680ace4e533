"""Every command and every piece of Python in the documentation runs as written."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from fontanel import schemas as s
from tests.conftest import DOCUMENTS, ROOT, Service, free_port, new_team
from tests.core.samples import workbook
from tests.documentation.examples import Reader, examples_of
from tests.servers import simulator

PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]
#: Pages without examples that run, or that other tests generate.
LEFT_OUT = {"cli.md", "problems.md", "settings.md", "performance.md"}

MARINE = DOCUMENTS / "marine-operations"


@pytest.fixture(scope="module")
def local(tmp_path_factory: pytest.TempPathFactory, model_server: str) -> Iterator[Service]:
    """A service that lets teams read folders and addresses of this machine."""
    data = tmp_path_factory.mktemp("documentation") / "data"
    environment = {
        "FONTANEL_SOURCE_ROOTS": str(data.parents[1]),
        "FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8,10.0.0.0/8",
    }
    result = Service(data, environment).start()
    with result.operator() as operator:
        operator.create_model(s.ModelIn(name="honest", url=model_server, remote="honest"))
    yield result
    result.stop()


@pytest.fixture
def reader(local: Service, tmp_path: Path, model_server: str) -> Iterator[Reader]:
    """A team's owner, with the files that the pages name."""
    folder = tmp_path / "work"
    (folder / "srv" / "notices").mkdir(parents=True)
    (folder / "rules").mkdir()
    (tmp_path / "home").mkdir()
    for name in ("berth-rules.docx", "radio-procedures.md"):
        shutil.copy(MARINE / name, folder / "rules")
    shutil.copy(MARINE / "storm-plan.pdf", folder)
    shutil.copy(MARINE / "pilotage-handbook.pdf", folder / "handbook.pdf")
    shutil.copy(MARINE / "tide-and-lock-notes.md", folder / "srv" / "notices" / "tides.md")
    for made in ("recordings", "pictures"):
        for path in (ROOT / "demo" / made).iterdir():
            shutil.copy(path, folder)
    (folder / "winter.md").write_text("# Winter\n\nThe lock opens at eight.\n")
    (folder / "instructions.txt").write_text("Answer in short sentences.\n")
    (folder / "faq.csv").write_text("Question,Answer,Area\nWhen?,At eight.,Lock\n")
    (folder / "prices.xlsx").write_bytes(workbook())
    (folder / "questions.jsonl").write_text(
        '{"question": "What is the wind limit?", "document": "storm-plan.pdf"}\n'
    )
    (folder / "crane.csv").write_text("question,contains\nWhen does the crane stop?,38 knots\n")
    editor = folder / "editor"
    editor.write_text('#!/bin/sh\necho "It closes at six." >> "$1"\n')
    editor.chmod(0o755)
    team = new_team(local)
    result = Reader(
        local,
        team,
        folder,
        instead={
            "https://models.example/v1": model_server,
            "some-model": "honest",
            **{port: str(free_port()) for port in ("8471", "8473", "8474", "8475")},
            "MODEL": "honest",
        },
    )
    with result.stack:
        yield result


def ready(reader: Reader) -> None:
    """Most pages continue a knowledge base with documents, and a desk."""
    client = reader.team.client
    kb = client.create_kb("Harbour rules").slug
    tags = {"year": "2024", "status": "in force"}
    client.add_document(kb, MARINE / "storm-plan.pdf", "storm-plan.pdf", tags, wait=True)
    client.add_document(
        kb, MARINE / "pilotage-handbook.pdf", "pilotage-handbook.pdf", {"year": "2024"}, wait=True
    )
    answer = client.ask(kb, "What is the wind limit for leaving the outer berth?")
    reader.instead["turn_..."] = answer.turn_id


def beginning(reader: Reader) -> None:
    reader.new_team, reader.begins = "Reading Room", True


def with_desks(reader: Reader) -> None:
    ready(reader)
    reader.team.client.create_kb("Live sources")


def with_sources(reader: Reader) -> None:
    """The page's site and store are simulators here."""
    ready(reader)
    pages = reader.folder / "srv" / "site"
    pages.mkdir()
    (pages / "index.html").write_text("<title>Port</title><main><p>The port is open.</p></main>")
    for bucket in ("manuals", "store/manuals"):
        (reader.folder / bucket).mkdir(parents=True)
    (reader.folder / "store/manuals/crane.md").write_text("# Crane\n\nIt stops at 38 knots.\n")
    site = reader.stack.enter_context(simulator("site", pages))
    store = reader.stack.enter_context(
        simulator("bucket", reader.folder, "--access-key", "AK...", "--secret-key", "made-up")
    )
    reader.instead |= {
        "https://www.skerrow.example/": f"{site}/",
        "https://store.skerrow.example": store,
        "9001": str(free_port()),
    }


def written(reader: Reader) -> None:
    ready(reader)
    client = reader.team.client
    client.add_document("harbour-rules", b"Open.", "notices/2026/one.md", wait=True)
    client.connect_source(
        "harbour-rules",
        s.SourceIn(
            name="Web site",
            kind="folder",
            settings={"path": str(reader.folder / "srv" / "notices")},
        ),
    )
    client.wait_for_sync("harbour-rules", "web-site", "latest")


def with_a_desk(reader: Reader) -> None:
    ready(reader)
    client = reader.team.client
    client.publish_desk(
        client.create_desk("Harbour desk", s.DeskSettings(kbs=[s.DeskKb(kb="harbour-rules")])).id
    )


PREPARED = {
    "README.md": beginning,
    "desks.md": with_desks,
    "sources.md": with_sources,
    "trials.md": with_a_desk,
    "written.md": written,
}


@pytest.mark.parametrize("page", [p for p in PAGES if p.name not in LEFT_OUT], ids=lambda p: p.name)
def test_a_page_s_examples_run_as_written(page: Path, reader: Reader) -> None:
    examples = examples_of(page)
    for example in examples:
        assert example.kind != "other" or example.not_run, (
            f"{page.name}:{example.line}: what is it?"
        )
    runnable = [example for example in examples if not example.not_run]
    if runnable:
        PREPARED.get(page.name, ready)(reader)
    for example in runnable:
        try:
            reader.run(example)
        except Exception as error:
            raise AssertionError(f"{page.name}:{example.line}: {error}") from error
