"""Measure a backup of many documents while others write and ask.

    .venv/bin/python bench/backups.py [--documents 20000] [--writers 5] [--askers 5]

Reports the time of questions before and during the backup (their ratio is what matters), what a
second backup copies, and whether the restored files are those of the data directory, byte by byte.
"""

from __future__ import annotations

import argparse
import hashlib
import random
import sqlite3
import sys
import tempfile
import threading
import time
import zipfile
from contextlib import closing
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.conftest import Service, TeamSetup, new_team, until

from fontanel.client import Client
from fontanel.engine.backup.places import Folder
from fontanel.engine.backup.repository import Repository
from fontanel.engine.backup.restoring import restore

_WORDS = [
    "berth",
    "crane",
    "tide",
    "lock",
    "pilot",
    "tug",
    "gust",
    "mooring",
    "buoy",
    "ferry",
    "quay",
    "depth",
    "draught",
    "channel",
    "signal",
    "harbour",
    "master",
    "notice",
    "permit",
    "cargo",
    "hatch",
    "ballast",
    "anchor",
    "fender",
    "bollard",
]
_ARCHIVE = 500


def notice(number: int, salt: int = 0) -> str:
    chosen = random.Random(number * 7919 + salt)
    words = " ".join(chosen.choice(_WORDS) for _ in range(60))
    return f"# Notice {number}\n\nIn force at berth {number}.{salt}. {words.capitalize()}.\n"


def add_documents(team: TeamSetup, kb: str, count: int, folder: Path) -> None:
    for start in range(0, count, _ARCHIVE):
        path = folder / f"notices-{start}.zip"
        with zipfile.ZipFile(path, "w") as archive:
            for number in range(start, min(start + _ARCHIVE, count)):
                archive.writestr(f"n{number}.md", notice(number))
        team.client.add_document(kb, path)
    expected = count

    def settled() -> bool:
        shown = team.client.show_kb(kb)
        print(f"\r{shown.documents:,} documents, {shown.pending:,} pending", end="", flush=True)
        time.sleep(2)
        return shown.documents >= expected and shown.pending == 0

    until(settled, seconds=3600)
    print()


class Load:
    """Writers that add and delete, and askers whose times are recorded."""

    def __init__(self, team: TeamSetup, kb: str, writers: int, askers: int) -> None:
        self._team = team
        self._kb = kb
        self._ended = threading.Event()
        self.times: list[tuple[float, float]] = []
        self.written = 0
        self.failed = 0
        self._threads = [
            *(threading.Thread(target=self._write, args=(n,)) for n in range(writers)),
            *(threading.Thread(target=self._ask, args=(n,)) for n in range(askers)),
        ]
        for thread in self._threads:
            thread.start()

    def stop(self) -> None:
        self._ended.set()
        for thread in self._threads:
            thread.join()

    def _client(self) -> Client:
        return Client(self._team.service.url, self._team.key, self._team.slug)

    def _write(self, which: int) -> None:
        client = self._client()
        number = 0
        while not self._ended.wait(0.2):
            name = f"w{which}-{number % 50}.md"
            client.add_document(self._kb, notice(number, which + 1).encode(), name)
            self.written += 1
            number += 1
            if number % 10 == 0:
                client.delete_document(self._kb, name)

    def _ask(self, which: int) -> None:
        client = self._client()
        number = which
        while not self._ended.wait(0.2):
            began = time.monotonic()
            try:
                client.ask(self._kb, f"What is in force at berth {number % 1000}.0?")
            except Exception:
                self.failed += 1
            self.times.append((began, time.monotonic() - began))
            number += 17


def p95(times: list[float]) -> float:
    return sorted(times)[round(0.95 * (len(times) - 1))] if times else 0.0


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--documents", type=int, default=20_000)
    parser.add_argument("--writers", type=int, default=5)
    parser.add_argument("--askers", type=int, default=5)
    parser.add_argument("--seconds", type=float, default=60.0, help="of load before the backup")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        environment = {
            "FONTANEL_BACKUP": str(folder / "backups"),
            "FONTANEL_BACKUP_KEY": "slack water",
        }
        service = Service(folder / "data", environment).start()
        try:
            measure(service, folder, options)
        finally:
            if service.process is not None and service.process.poll() is None:
                service.stop()


def measure(service: Service, folder: Path, options: argparse.Namespace) -> None:
    team = new_team(service)
    kb = team.client.create_kb("Notices").slug
    add_documents(team, kb, options.documents, folder)
    load = Load(team, kb, options.writers, options.askers)
    time.sleep(options.seconds)
    with service.operator() as operator:
        began = time.monotonic()
        *_, first = operator.wait_for_backup(operator.start_backup().id)
        ended = time.monotonic()
        *_, second = operator.wait_for_backup(operator.start_backup().id)
        again = time.monotonic()
        # What the writers added slows questions down: compare with afterwards as well.
        time.sleep(options.seconds)
        after_end = time.monotonic()
        load.stop()
        # What is compared must not change after the last backup.
        until(lambda: team.client.show_kb(kb).pending == 0, seconds=3600)
        time.sleep(5)
        *_, idle = operator.wait_for_backup(operator.start_backup().id)
    before = [seconds for at, seconds in load.times if at + seconds < began]
    during = [seconds for at, seconds in load.times if began <= at + seconds and at < ended]
    after = [seconds for at, seconds in load.times if again <= at and at + seconds < after_end]
    print(f"first backup: {first.state}, {first.done / 1e6:.0f} MB, {first.new / 1e6:.1f} MB new,")
    print(f"  {ended - began:.1f} s with its check; {first.checked or first.error}")
    print(f"second: {second.new / 1e6:.1f} MB new, {again - ended:.1f} s")
    print(f"third, without load: {idle.new / 1e6:.2f} MB new")
    print(
        f"p95 of {len(before)} questions before: {p95(before):.3f} s; of {len(during)} during:"
        f" {p95(during):.3f} s; of {len(after)} after: {p95(after):.3f} s; ratio to before"
        f" {p95(during) / p95(before):.2f}, to after {p95(during) / p95(after):.2f} (wanted: 1.5);"
        f" {load.failed} failed; {load.written} written"
    )
    service.stop()
    compare(service.data, folder, idle.id)


def compare(data: Path, folder: Path, backup_id: str) -> None:
    repository = Repository(Folder(folder / "backups"), "slack water")
    began = time.monotonic()
    restore(repository, repository.manifest(backup_id), folder / "restored")
    seconds = time.monotonic() - began
    different = same = 0
    for path in (folder / "restored").rglob("*"):
        relative = path.relative_to(folder / "restored").as_posix()
        if path.is_file() and "/" in relative:
            equal = digest(path) == digest(data / relative)
            same, different = same + equal, different + (not equal)
    tables = sum(
        rows(data / "fontanel.db", table) == rows(folder / "restored" / "fontanel.db", table)
        for table in ("documents", "revisions", "passages", "segments", "turns")
    )
    print(
        f"restored in {seconds:.1f} s: {same:,} files equal, {different} different; {tables} of 5"
        " tables equal"
    )


def digest(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest() if path.is_file() else "missing"


def rows(database: Path, table: str) -> str:
    with closing(sqlite3.connect(database)) as records:
        found = records.execute(f"SELECT * FROM {table} ORDER BY 1").fetchall()
    return hashlib.sha256(repr(found).encode()).hexdigest()


if __name__ == "__main__":
    main()
