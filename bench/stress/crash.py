"""Kill the service at its durable steps while documents change, and compare.

    .venv/bin/python bench/stress/crash.py [--kills 200] [--seed 1] [--cluster]

Each round arms a random step and works until the service dies there. After a restart every
acknowledged document must exist, byte for byte, indexed once and found once by its own word;
deleted ones must not be found. A request in progress when the service died may or may not have been
done.

With `--cluster` documents are read and embedded by two workers of a Dask cluster, which are killed
in turn every few seconds.
"""

from __future__ import annotations

import argparse
import contextlib
import random
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[2]))

from tests.cluster.dask import Dask
from tests.conftest import Service, ServiceEnded, TeamSetup, new_team

from fontanel.client import Client, Conflict, FontanelError, Invalid, NotFound
from fontanel.engine.runtime.fault_points import POINTS
from fontanel.schemas import Splitting

#: The steps that a round passes.
_STEPS = (*POINTS, "edition_switching", "edition_switched")
_NAMES = [f"note-{number}.md" for number in range(14)]


def content(name: str, number: int) -> bytes:
    stem = name.removesuffix(".md").replace("-", "")
    lines = "\n\n".join(
        f"Watch {part} of {stem} in the year {number} was quiet but for the buoy at mark"
        f" {part * 7}."
        for part in range(6)
    )
    return (
        f"# Log of {stem}\n\nThe word of this revision is {stem}rev{number}.\n\n{lines}\n".encode()
    )


class Round:
    """Works on a knowledge base until the service dies.

    `held` is what was acknowledged; `unsure` is the request in progress: its document, and its new
    content (None: deleted).
    """

    def __init__(
        self, client: Client, kb: str, held: dict[str, bytes], rng: random.Random, first: int
    ) -> None:
        self.held, self.number = held, first
        self.unsure: tuple[str, bytes | None] | None = None
        self._client, self._kb, self._rng = client, kb, rng

    def work(self, steps: int) -> None:
        """Returns when the service is gone, or after so many steps."""
        for _ in range(steps):
            try:
                self._step()
            except (Conflict, Invalid, NotFound):
                continue
            except FontanelError:
                return
            self.unsure = None

    def _step(self) -> None:
        rng, name = self._rng, self._rng.choice(_NAMES)
        what = rng.random()
        if what < 0.12:
            self._editions()
        elif what < 0.27 and name in self.held:
            self.unsure = name, None
            self._client.delete_document(self._kb, name)
            del self.held[name]
        else:
            self.number += 1
            self.unsure = name, content(name, self.number)
            self._client.add_document(self._kb, self.unsure[1], name, wait=rng.random() < 0.5)
            self.held[name] = self.unsure[1]

    def _editions(self) -> None:
        editions = self._client.list_editions(self._kb)
        if len(editions) == 1:
            size = self._rng.choice((50, 80, 120))
            self._client.build_edition(self._kb, Splitting(target_tokens=size, min_tokens=20))
            return
        beside = next(edition for edition in editions if not edition.active)
        if beside.state == "ready":
            self._client.activate_edition(self._kb, beside.number)
        elif self._rng.random() < 0.3:
            self._client.drop_edition(self._kb, beside.number)


def verify(
    client: Client, kb: str, held: dict[str, bytes], unsure: tuple[str, bytes | None] | None
) -> dict[str, bytes]:
    """Compare what the service has with what was acknowledged, and return it.

    Raises:
        AssertionError: they differ.
    """
    documents = {document.name: document for document in client.list_documents(kb)}
    there: dict[str, bytes] = {}
    for name, document in documents.items():
        result = client.wait_for_document(kb, document.id, seconds=600)
        assert result.state == "indexed", (name, result.state, result.error)
        there[name] = client.original(kb, document.id)
        passages = list(client.list_passages(kb, document.id))
        assert [passage.ordinal for passage in passages] == list(range(len(passages))), name
        word = there[name].split(b"revision is ")[1].split(b".")[0].decode()
        hits = client.search(kb, f'"{word}"', mode="lexical", limit=50, per_document=50).hits
        assert len(hits) == 1, (name, word, len(hits))
        assert hits[0].document_name == name, (name, hits[0].document_name)
        assert there[name].decode().find(hits[0].text.split("\n")[-1][:40]) >= 0
    expected = dict(held)
    if unsure is not None:
        name, requested = unsure
        if there.get(name) == requested:
            expected.pop(name, None)
            if requested is not None:
                expected[name] = requested
    assert there == expected, {
        name: (name in there, name in expected) for name in there.keys() ^ expected.keys()
    }
    hits = client.search(kb, "watch quiet buoy", mode="lexical", limit=100, per_document=100).hits
    assert len({hit.passage_id for hit in hits}) == len(hits)
    assert {hit.document_name for hit in hits} <= there.keys()
    return there


class DyingCluster:
    """A cluster of two workers, of which one is killed and replaced every few seconds."""

    def __init__(self, folder: Path, rng: random.Random) -> None:
        self.kills = 0
        self._rng = rng
        self._dask = Dask(folder)
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._kill)

    def __enter__(self) -> DyingCluster:
        self._dask.start()
        for name in ("one", "two"):
            self._dask.add_worker(name)
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stopping.set()
        self._thread.join()
        self._dask.stop()

    @property
    def settings(self) -> dict[str, str]:
        return {"FONTANEL_CLUSTER": self._dask.address, "FONTANEL_CLUSTER_TASKS": "4"}

    def _kill(self) -> None:
        while not self._stopping.wait(self._rng.uniform(15, 30)):
            name = self._rng.choice(("one", "two"))
            self._dask.kill_worker(name)
            self._dask.add_worker(name)
            self.kills += 1


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kills", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--cluster", action="store_true")
    arguments = parser.parse_args()
    rng = random.Random(arguments.seed)
    died: Counter[str] = Counter()
    idle = 0
    started = time.monotonic()
    with tempfile.TemporaryDirectory() as scratch, contextlib.ExitStack() as stack:
        settings: dict[str, str] = {}
        cluster = None
        if arguments.cluster:
            cluster = stack.enter_context(DyingCluster(Path(scratch), random.Random(rng.random())))
            settings = cluster.settings
        service = Service(Path(scratch) / "data", settings).start()
        team: TeamSetup = new_team(service)
        kb = team.client.create_kb("Notes").slug
        service.stop()
        stored: dict[str, bytes] = {}
        number = 0
        while died.total() < arguments.kills:
            point = rng.choice(_STEPS)
            work = None
            with contextlib.suppress(ServiceEnded):
                # What an earlier round left may be done, and pass the step, before it is ready.
                service.start(FONTANEL_FAULT=f"{point}:{rng.choice((1, 1, 2, 3))}")
                client = Client(service.url, team.key, team.slug, retry_seconds=0)
                work = Round(client, kb, stored, rng, number)
                work.work(40)
            assert service.process is not None
            with contextlib.suppress(subprocess.TimeoutExpired):
                # The client notices before the system has ended the process.
                service.process.wait(timeout=2)
            if service.process.poll() is None:
                idle += 1
                service.kill()
                died["between steps"] += 1
            else:
                assert service.process.returncode == -9, service.log()[-1000:]
                died[point] += 1
            unsure = None
            if work is not None:
                stored, number, unsure = work.held, work.number, work.unsure
            service.start()
            stored = verify(Client(service.url, team.key, team.slug), kb, stored, unsure)
            service.stop()
            if died.total() % 20 == 0:
                print(
                    f"{died.total()} kills, {len(stored)} documents,"
                    f" {time.monotonic() - started:.0f} s",
                    flush=True,
                )
        if cluster is not None:
            print(f"{cluster.kills} kills of workers of the cluster")
    print(f"{died.total()} kills, nothing lost, nothing twice: {dict(died)}")


if __name__ == "__main__":
    main()
