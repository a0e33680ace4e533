"""Documents are read and embedded on a Dask cluster, whatever of it dies."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from pathlib import Path

import numpy as np
import pytest

from fontanel import __version__
from fontanel import schemas as s
from fontanel.client import Client
from fontanel.core.embedding.directory import directory_facts
from fontanel.core.passages.splitting import Passage
from fontanel.engine.cluster.connection import Cluster, ClusterAway
from fontanel.engine.cluster.tasks import Needs, Result, embed_texts
from fontanel.engine.cluster.workers import ClusterEmbedder, ClusterReader, LocalWorkers
from fontanel.engine.ingest.passage_embedders import Owned
from fontanel.engine.workers.framing import Failed, message_bytes
from fontanel.engine.workers.messages import DocumentRead, ReadDocument
from fontanel.engine.workers.processes import Worker
from fontanel.facts import SplitSettings
from fontanel.records.tables import Job
from tests import patient
from tests.cluster.dask import Dask
from tests.conftest import EMBEDDER, Service, TeamSetup, new_team, until
from tests.deploy.conftest import make_certificate
from tests.end_to_end.test_crash import assert_each_once, note, reconnect

COUNT = 24
NAMES = {f"note-{number}.md" for number in range(COUNT)}


@pytest.fixture(scope="module")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Dask]:
    cluster = Dask(tmp_path_factory.mktemp("dask"))
    cluster.start()
    yield cluster
    cluster.stop()


@pytest.fixture
def dask(shared: Dask) -> Dask:
    """A cluster with two workers."""
    if shared.scheduler is None:
        shared.start()
    for name in ("one", "two"):
        if name not in shared.workers or shared.workers[name].poll() is not None:
            shared.add_worker(name)
    return shared


@pytest.fixture
def own(dask: Dask, tmp_path: Path) -> Iterator[Service]:
    settings = {"FONTANEL_CLUSTER": dask.address, "FONTANEL_CLUSTER_TASKS": "4"}
    started = Service(tmp_path / "data", settings).start()
    until(lambda: finding(started) == ("ok", "Documents are read by 2 workers."))
    yield started
    started.stop()


def finding(service: Service) -> tuple[str, str]:
    """Return what the doctor finds of the cluster."""
    with service.operator() as operator:
        found = next(one for one in operator.examine() if one.check == "cluster")
    return found.state, found.text


def metric(service: Service, name: str) -> str:
    """Return the value of a metric without labels."""
    lines = patient.get(f"{service.url}/metrics").text.splitlines()
    return next(line.split()[1] for line in lines if line.startswith(f"{name} "))


def kinds(service: Service) -> set[str]:
    """Return the kinds of worker processes that the service has itself."""
    found = set()
    for pid in service.children():
        command = Path(f"/proc/{pid}/cmdline").read_bytes().split(b"\0")
        if b"fontanel.engine.workers.child" in command:
            found.add(command[command.index(b"fontanel.engine.workers.child") + 1].decode())
    return found


def add_notes(client: Client) -> str:
    kb = client.create_kb("Notes").slug
    for number in range(COUNT):
        client.add_document(kb, note(number), f"note-{number}.md")
    return kb


def has_indexed(team: TeamSetup, kb: str, count: int) -> bool:
    return indexed(reconnect(team), kb) >= count


def indexed(client: Client, kb: str) -> int:
    return sum(one.state == "indexed" for one in client.list_documents(kb))


def test_documents_are_read_and_embedded_elsewhere(own: Service) -> None:
    client = new_team(own).client
    kb = add_notes(client)
    assert_each_once(client, kb, own.data, NAMES)
    assert kinds(own) == set()
    answer = client.ask(kb, f"What did the duty officer write about buoy {7 * 20}?")
    assert answer.citations[0].title == "Note 20"
    # What a document is made of comes back too: files inside it, and why it cannot be read.
    client.add_document(kb, b"%PDF-1.7 nothing else", "broken.pdf")
    assert client.wait_for_document(kb, "broken.pdf").state == "failed"
    client.build_edition(kb, s.Splitting(target_tokens=80), wait=True)
    assert kinds(own) == set()


def test_a_worker_that_is_killed_loses_nothing(own: Service, dask: Dask) -> None:
    client = new_team(own).client
    kb = add_notes(client)
    until(lambda: indexed(client, kb) > 0)
    dask.kill_worker("one")
    assert_each_once(client, kb, own.data, NAMES)
    assert kinds(own) == set()


def test_without_a_cluster_documents_are_read_here(own: Service, dask: Dask) -> None:
    client = new_team(own).client
    kb = add_notes(client)
    dask.kill_scheduler()
    assert_each_once(client, kb, own.data, NAMES)
    assert "read" in kinds(own)
    state, text = finding(own)
    assert (state, "cannot be used" in text) == ("problem", True)
    until(lambda: metric(own, "fontanel_cluster_away") == "1.0")
    for name in list(dask.workers):
        dask.kill_worker(name)
    dask.start()
    for name in ("one", "two"):
        dask.add_worker(name)
    until(lambda: finding(own)[0] == "ok")
    until(lambda: metric(own, "fontanel_cluster_workers") == "2.0")
    assert metric(own, "fontanel_cluster_away") == "0.0"


def test_a_killed_service_goes_on_with_the_cluster(own: Service) -> None:
    team = new_team(own)
    kb = add_notes(team.client)
    for done in (2, 6, 10):
        until(partial(has_indexed, team, kb, done))
        own.kill()
        own.start()
    client = reconnect(team)
    assert_each_once(client, kb, own.data, NAMES)


def test_workers_that_are_not_fit_are_not_used(dask: Dask) -> None:
    cluster = Cluster(dask.address, 2, None)
    cluster.start()
    try:
        until(lambda: cluster.workers == 2)
        for needs, reason in (
            (Needs("0.0.0", None), "the service 0.0.0"),
            (Needs(__version__, "another"), "the service another"),
        ):
            until(lambda: cluster.available)
            with pytest.raises(ClusterAway, match=reason):
                cluster.run(embed_texts, needs, ["a text"], seconds=60)
            assert not cluster.available
            cluster._unfit_until = 0.0
    finally:
        cluster.stop()


def test_with_certificates_on_both_sides(tmp_path: Path) -> None:
    for folder in ("own", "foreign"):
        (tmp_path / folder).mkdir()
        made = make_certificate(tmp_path / folder, "made")
        for name, path in (("ca", made.certificate), ("cert", made.certificate), ("key", made.key)):
            (tmp_path / folder / f"{name}.pem").write_bytes(path.read_bytes())
    secured = Dask(tmp_path, tls=tmp_path / "own")
    secured.start()
    secured.add_worker("one")
    cluster = Cluster(secured.address, 1, tmp_path / "own")
    foreign = Cluster(secured.address, 1, tmp_path / "foreign")
    try:
        cluster.start()
        until(lambda: cluster.available)
        needs = Needs(__version__, directory_facts(EMBEDDER).name)
        done = cluster.run(embed_texts, needs, ["The crane is yellow."], seconds=60)
        assert (done.outcome, len(done.attached[0])) == ("done", 4 * 384)
        foreign.start()
        until(lambda: "not connected yet" not in foreign.problem)
        assert not foreign.available
        with pytest.raises(ClusterAway):
            foreign.run(embed_texts, needs, ["The crane is yellow."], seconds=60)
    finally:
        foreign.stop()
        cluster.stop()
        secured.stop()


# Results are checked


class Returning(Cluster):
    """A cluster whose workers return what a test says."""

    def __init__(self, result: Result) -> None:
        super().__init__("tcp://127.0.0.1:9", 1, None)
        self.problem = ""
        self.result = result

    def _run(self, *_: object) -> Result:
        return self.result


@pytest.fixture(scope="module")
def local() -> Iterator[dict[str, Worker]]:
    workers = {"read": Worker("read", EMBEDDER, 2048), "embed": Worker("embed", EMBEDDER, 1)}
    yield workers
    for worker in workers.values():
        worker.stop()


HOSTILE = [
    b"",
    b"\0\0\0\1{",
    b"\0\0\0\2[]",
    b"\0\0\0\2{}",
    b"\xff\xff\xff\xff",
    message_bytes(ReadDocument(path="/etc/passwd", name="x", splitting=SplitSettings())),
]


@pytest.mark.parametrize("number", range(len(HOSTILE)))
def test_a_document_with_a_malformed_reply_is_read_again_here(
    number: int, local: dict[str, Worker], tmp_path: Path
) -> None:
    path = tmp_path / "note.md"
    path.write_text("# Title\n\nThe crane is yellow.\n")
    cluster = Returning(Result("done", HOSTILE[number]))
    reader = ClusterReader(cluster, Needs("", None), LocalWorkers([local["read"]]))
    attached: list[bytes] = []
    request = ReadDocument(path=str(path), name="note.md", splitting=SplitSettings())
    reply = reader.read(request, 60, on_attached=attached.append)
    assert isinstance(reply, DocumentRead)
    passages: list[Passage] = reply.passages
    assert ["crane is yellow" in one.text for one in passages] == [True]


def test_parts_that_were_not_announced_are_refused(
    local: dict[str, Worker], tmp_path: Path
) -> None:
    path = tmp_path / "note.md"
    path.write_text("# Title\n\nThe crane is yellow.\n")
    failed = message_bytes(Failed(code="unreadable", error="It is empty."))
    reader = ClusterReader(
        Returning(Result("done", failed, (b"more",))),
        Needs("", None),
        LocalWorkers([local["read"]]),
    )
    request = ReadDocument(path=str(path), name="note.md", splitting=SplitSettings())
    assert isinstance(reader.read(request, 60), DocumentRead)
    reader = ClusterReader(
        Returning(Result("done", failed)), Needs("", None), LocalWorkers([local["read"]])
    )
    assert isinstance(reader.read(request, 60), Failed)


@pytest.mark.parametrize(
    "data",
    [
        b"",
        b"123",
        np.zeros((1, 384), np.float32).tobytes(),
        np.full((1, 384), np.nan, np.float32).tobytes(),
        np.ones((2, 384), np.float32).tobytes(),
    ],
)
def test_wrong_vectors_are_computed_again_here(data: bytes, local: dict[str, Worker]) -> None:
    cluster = Returning(Result("done", attached=(data,)))
    embedder = ClusterEmbedder(cluster, Needs("", None), 384, LocalWorkers([local["embed"]]))
    vectors = embedder.embed_owned([Owned("The crane is yellow.", Job(), "edition_1")]).vectors
    assert vectors.shape == (1, 384)
    assert np.linalg.norm(vectors[0]) == pytest.approx(1, abs=1e-3)
