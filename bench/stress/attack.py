"""Attack a service on loopback, in ways that take too long for tests.

    python bench/stress/attack.py [api] [packs] [patterns] [streams] [slow] [bodies] [--cases N]

Each part prints what it sent, the responses, and how long other requests took meanwhile. Nothing
but loopback is accessed.
"""

from __future__ import annotations

import argparse
import asyncio
import io
import json
import random
import socket
import statistics
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import psutil

sys.path.insert(0, str(Path(__file__).parents[2]))

from tests.conftest import STORM, Service, TeamSetup, new_team
from tests.security.generated import Fuzz, operations
from tests.security.packs import entries_of, mutated

from fontanel import schemas as s
from fontanel.client import Client
from fontanel.engine.editions.pack_reader import verify_pack
from fontanel.errors import Refused
from fontanel.sources.patterns import PatternRefused, matcher


@contextmanager
def running(**environment: str) -> Iterator[Service]:
    with tempfile.TemporaryDirectory() as folder:
        service = Service(Path(folder) / "data", environment).start()
        try:
            yield service
        finally:
            service.stop()


def times(call: Callable[[], Any], count: int = 50) -> str:
    """How long a call takes, as median and maximum in milliseconds."""
    results = []
    for _ in range(count):
        began = time.perf_counter()
        call()
        results.append((time.perf_counter() - began) * 1000)
    return f"{statistics.median(results):.0f} ms, at most {max(results):.0f} ms"


def api(cases: int) -> None:
    with running() as service:
        fuzz = Fuzz.begin(service)
        result = operations()
        # Deleted records have to be created again, which takes most of the time.
        deleting = sum(operation.method == "delete" for operation in result)
        few = min(12, max(1, cases // len(result)))
        each = max(1, -(-(cases - deleting * few) // (len(result) - deleting)))
        began = time.monotonic()
        for number, operation in enumerate(result):
            fuzz.run(operation, few if operation.method == "delete" else each, number)
            if sys.stderr.isatty():
                print(f"\r  {fuzz.cases:,} requests", end="", file=sys.stderr)
        seconds = time.monotonic() - began
        print(f"api: {fuzz.cases:,} requests over {len(result)} operations in {seconds:.0f} s")
        print(
            "  answers by status:",
            ", ".join(f"{status} {count:,}" for status, count in sorted(fuzz.statuses.items())),
        )
        print(f"  failures of the service: {len(fuzz.failures)}")
        for failure in fuzz.failures[:20]:
            print("   ", failure[:400])


def packs(cases: int) -> None:
    with running() as service, tempfile.TemporaryDirectory() as folder:
        team = new_team(service)
        kb = team.client.create_kb("Rules").slug
        team.client.add_document(kb, STORM, "storm.md", wait=True)
        path = Path(folder) / "pack.zip"
        team.client.export_edition(kb, 1, path)
        pack = path.read_bytes()
        embedder = json.loads(entries_of(pack)["manifest.json"])["embedder"]
        dimensions = np.load(io.BytesIO(entries_of(pack)["vectors.npy"])).shape[1]
        draw, outcomes, slowest = random.Random(7), Counter[str](), 0.0
        for _ in range(cases):
            path.write_bytes(mutated(pack, draw))
            began = time.perf_counter()
            try:
                verify_pack(path, embedder, dimensions)
                outcomes["taken"] += 1
            except Refused:
                outcomes["refused"] += 1
            slowest = max(slowest, time.perf_counter() - began)
        print(
            f"packs: {cases:,} mutated: {dict(outcomes)}; the slowest took {slowest * 1000:.0f} ms"
        )


def patterns(cases: int) -> None:
    draw, slowest, refused = random.Random(7), (0.0, ""), 0
    paths = ["a/" * 2000 + "b", "a" * 4000, "a.a-" * 1000, "notices/2024/january/storm.md"]
    for _ in range(cases):
        pattern = "".join(
            draw.choice(["*", "**", "**/", "?", "a", "b", "/", "(a+)+", "[a", "\\", "é"])
            for _ in range(draw.randrange(1, 40))
        )
        began = time.perf_counter()
        try:
            fits = matcher([pattern])
            assert fits is not None
            fits(draw.choice(paths))
        except PatternRefused:
            refused += 1
        slowest = max(slowest, (time.perf_counter() - began, pattern))
    print(
        f"patterns: {cases:,} random ones, {refused:,} refused; the slowest took"
        f" {slowest[0] * 1000:.1f} ms ({slowest[1]!r})"
    )
    worst = matcher(["*a" * 16 + "z"] * 100)
    assert worst is not None
    print(
        "  100 patterns of 16 wildcards on a path of 4,000 characters:"
        f" {times(lambda: worst('a' * 4000 + 'b'), 5)}"
    )


def streams(count: int) -> None:
    with running() as service:
        teams = [new_team(service) for _ in range(3)]
        kbs = [team.client.create_kb("Rules").slug for team in teams]
        teams[0].client.add_document(kbs[0], STORM, "storm.md", wait=True)
        search = lambda: teams[0].client.search(kbs[0], "wind limit")  # noqa: E731
        print(f"streams: a search without any: {times(search)}")
        asyncio.run(
            _hold_streams(teams, kbs, count, lambda: print(f"  with {count} open: {times(search)}"))
        )
        assert service.process is not None


async def _hold_streams(
    teams: list[TeamSetup], kbs: list[str], count: int, then: Callable[[], None]
) -> None:
    keys = [
        (team, kb, team.client.make_key(f"k{n}", "reader").secret)
        for team, kb in zip(teams, kbs, strict=True)
        for n in range(10)
    ]
    async with httpx.AsyncClient(limits=httpx.Limits(max_connections=None), timeout=60) as client:
        stored = []
        for number in range(count):
            team, kb, key = keys[number // 20]
            url = f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}/events"
            response = await client.send(
                client.build_request("GET", url, headers={"Authorization": f"Bearer {key}"}),
                stream=True,
            )
            assert response.status_code == 200, response.status_code
            stored.append(response)
        await asyncio.to_thread(then)
        for response in stored:
            await response.aclose()


def _dribble(connection: socket.socket, stop: threading.Event) -> None:
    """Send a response at one byte a second."""
    head = b"HTTP/1.1 200 OK\r\nContent-Length: 1000000\r\n\r\n"
    try:
        for number in range(10_000_000):
            connection.sendall(head[number : number + 1] or b"x")
            if stop.wait(1.0):
                return
    except OSError:
        return
    finally:
        connection.close()


def slow(_: int) -> None:
    stop = threading.Event()
    with (
        socket.create_server(("127.0.0.1", 0)) as server,
        running(
            FONTANEL_SOURCE_NETWORKS="127.0.0.0/8", FONTANEL_SOURCE_ROOTS=tempfile.gettempdir()
        ) as service,
        tempfile.TemporaryDirectory() as share,
    ):
        server.settimeout(0.2)

        def accept() -> None:
            while not stop.is_set():
                try:
                    threading.Thread(
                        target=_dribble, args=(server.accept()[0], stop), daemon=True
                    ).start()
                except TimeoutError:
                    continue

        threading.Thread(target=accept, daemon=True).start()
        bad, good = new_team(service), new_team(service)
        kb = bad.client.create_kb("Slow").slug
        for number in range(20):
            site = {"start": [f"http://127.0.0.1:{server.getsockname()[1]}/{number}"]}
            bad.client.connect_source(kb, s.SourceIn(name=f"S{number}", kind="site", settings=site))
        mine = good.client.create_kb("Mine").slug
        results = []
        for number in range(10):
            folder = Path(share) / str(number)
            folder.mkdir()
            (folder / "x.md").write_text("# X\n\nText.")
            began = time.monotonic()
            good.client.connect_source(
                mine, s.SourceIn(name=f"F{number}", kind="folder", settings={"path": str(folder)})
            )
            while good.client.show_kb(mine).documents <= number:
                time.sleep(0.01)
            results.append(time.monotonic() - began)
        print(
            "slow: 20 sources of one team on a server that sends a byte a second; another team's"
            f" folder is taken after {statistics.median(results):.2f} s, at most"
            f" {max(results):.2f} s"
        )
        stop.set()


def bodies(_: int) -> None:
    with running() as service:
        team = new_team(service)
        kb = team.client.create_kb("Rules").slug
        process = psutil.Process(service.process.pid)  # type: ignore[union-attr]
        before = process.memory_info().rss
        stop = threading.Event()
        statuses: Counter[int] = Counter()

        def attack(path: str, headers: dict[str, str]) -> None:
            def sixty() -> Iterator[bytes]:
                for _ in range(60):
                    yield b'{"email": "' + b"x" * 1_000_000

            while not stop.is_set():
                try:
                    statuses[
                        httpx.post(
                            service.url + path,
                            content=sixty(),
                            headers={"Content-Type": "application/json", **headers},
                            timeout=60,
                        ).status_code
                    ] += 1
                except httpx.TransportError:
                    statuses[0] += 1

        key = {"Authorization": f"Bearer {team.key}"}
        threads = [
            threading.Thread(target=attack, args=arguments, daemon=True)
            for arguments in (
                ("/api/v1/session", {}),
                (f"/api/v1/teams/{team.slug}/kbs", key),
                ("/api/v1/teams/x/packs", {}),
            )
            for _ in range(4)
        ]
        for thread in threads:
            thread.start()
        with Client(service.url, team.key, team.slug) as client:
            print(
                "bodies: 60 MB of JSON, 12 at a time; a list meanwhile:"
                f" {times(lambda: list(client.list_documents(kb)), 100)}"
            )
        peak = process.memory_info().rss
        stop.set()
        for thread in threads:
            thread.join()
        print(
            f"  answers by status (0: cut off): {dict(statuses)}; memory {before / 1e6:.0f} MB"
            f" before, {peak / 1e6:.0f} MB meanwhile"
        )


PARTS: dict[str, tuple[Callable[[int], None], int]] = {
    "api": (api, 20_000),
    "packs": (packs, 10_000),
    "patterns": (patterns, 100_000),
    "streams": (streams, 500),
    "slow": (slow, 0),
    "bodies": (bodies, 0),
}


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument(
        "parts", nargs="*", choices=[*PARTS, []], help="which parts; by default all"
    )
    parser.add_argument(
        "--cases", type=int, help="how many cases, instead of each part's own number"
    )
    options = parser.parse_args()
    for name in options.parts or PARTS:
        part, cases = PARTS[name]
        part(options.cases or cases)


if __name__ == "__main__":
    main()
