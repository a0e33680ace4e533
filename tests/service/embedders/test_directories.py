"""Embedders in directories of the service's machine, each in processes of its own."""

from __future__ import annotations

import os
import shutil
import signal
from collections.abc import Iterator
from itertools import count
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Client, Invalid, ProblemError
from tests.conftest import EMBEDDER, STORM, Service, TeamSetup, until
from tests.core.encoders import make_encoder

CRANE = "At what gust does the quay crane stop?"
_numbers = count(1)


@pytest.fixture
def operator(service: Service) -> Iterator[Client]:
    with service.operator() as client:
        yield client


def register(operator: Client, directory: Path, **more: object) -> s.EmbedderOut:
    fields = {"name": f"encoder-{next(_numbers)}", "directory": str(directory), **more}
    return operator.register_embedder(s.EmbedderIn.model_validate(fields))


def test_an_encoder_is_registered_by_its_directory_and_used(
    operator: Client, team: TeamSetup, tmp_path: Path
) -> None:
    prompts = {"query": "query: ", "document": "text: "}
    directory = make_encoder(tmp_path / "words", STORM.decode(), more={"prompts": prompts})
    made = register(operator, directory)
    assert (made.dimensions, made.directory) == (64, str(directory))
    assert (made.question_prefix, made.passage_prefix) == ("query: ", "text: ")
    assert operator.check_embedder(made.name).works
    client = team.client
    kb = client.create_kb("Rules", embedder=made.name).slug
    client.add_document(kb, STORM, "storm.md", wait=True)
    hits = client.search(kb, CRANE, mode="vector").hits
    assert "38 knots" in hits[0].text
    answer = client.ask(kb, CRANE)
    assert "38 knots" in answer.text
    # Nothing was paid for.
    assert client.usage("model").total.cost == 0
    with pytest.raises(Invalid, match="is in a directory"):
        operator.change_embedder(made.name, s.EmbedderChange(url="http://127.0.0.1:9/v1"))
    with pytest.raises(ProblemError, match="is used by Rules"):
        operator.delete_embedder(made.name)


def test_an_edition_moves_to_a_pooled_encoder_and_back(
    operator: Client, team: TeamSetup, storm: str, tmp_path: Path
) -> None:
    copy = shutil.copytree(EMBEDDER, tmp_path / "copy")
    made = register(operator, copy)
    client = team.client
    edition = client.build_edition(storm, s.Splitting(), embedder=made.name, wait=True)
    client.activate_edition(storm, edition.number)
    assert "38 knots" in client.search(storm, CRANE, mode="vector").hits[0].text
    client.activate_edition(storm, 1)
    assert "38 knots" in client.search(storm, CRANE, mode="vector").hits[0].text


@pytest.mark.parametrize(
    ("spoil", "message"),
    [
        (lambda folder: (folder / "model.onnx").write_bytes(b"nothing"), "was not registered"),
        (lambda folder: (folder / "tokenizer.json").unlink(), "There is no tokenizer.json"),
        (lambda folder: (folder / "tokenizer.json").write_text("{}"), "was not registered"),
    ],
)
def test_a_directory_that_is_no_encoder_is_refused(
    operator: Client, tmp_path: Path, spoil: object, message: str
) -> None:
    directory = make_encoder(tmp_path / "words")
    assert callable(spoil)
    spoil(directory)
    with pytest.raises(Invalid, match=message):
        register(operator, directory)
    with pytest.raises(Invalid, match=r"There is no model\.onnx"):
        register(operator, Path("relative"))


def test_an_address_and_a_directory_exclude_each_other(operator: Client, tmp_path: Path) -> None:
    for fields in (
        {"name": "neither"},
        {"name": "both", "directory": str(tmp_path), "url": "http://127.0.0.1:9/v1"},
    ):
        with pytest.raises(ValueError, match="either the address of a server or a directory"):
            s.EmbedderIn.model_validate(fields)


def test_an_encoder_whose_process_is_killed_goes_on(
    operator: Client, service: Service, team: TeamSetup, tmp_path: Path
) -> None:
    made = register(operator, make_encoder(tmp_path / "words", STORM.decode()))
    client = team.client
    kb = client.create_kb("Rules", embedder=made.name).slug
    client.add_document(kb, STORM, "storm.md", wait=True)
    mine = [pid for pid in service.children() if str(tmp_path) in _command(pid)]
    assert mine
    for pid in mine:
        os.kill(pid, signal.SIGKILL)
    client.add_document(kb, STORM + b"\nThe gate opens at six.\n", "storm.md")
    until(lambda: client.show_document(kb, "storm.md").state == "indexed")
    assert client.search(kb, "When does the gate open?", mode="vector").hits


def _command(pid: int) -> str:
    return Path(f"/proc/{pid}/cmdline").read_text()
