"""The cost of watching a large knowledge base.

    .venv/bin/python bench/watching.py [--documents 100000]

Records of settled documents are put into a knowledge base, and the service is started on it:
milliseconds of its lists and of a stream's first message, and, with no, one and three watchers, the
seconds in which twenty documents are added and the service's processor time.
"""

from __future__ import annotations

import argparse
import os
import platform
import sys
import tempfile
import threading
import time
from contextlib import suppress
from datetime import timedelta
from pathlib import Path

import httpx
from sqlalchemy import insert

from collection import ROOT
from fontanel.client import Client
from fontanel.records.tables import Document, DocumentState, Kb, Revision, now
from fontanel.records.unit_of_work import Records

sys.path.insert(0, str(ROOT))
from tests.conftest import Service, TeamSetup, new_team

ADDED = 20


def fill(service: Service, team: TeamSetup, kb: str, count: int) -> None:
    stored = team.client.show_kb(kb).id
    records = Records(service.data / "fontanel.db")
    at = now() - timedelta(days=1)
    with records.writing() as session:
        team_id = session.get_one(Kb, stored).team_id
        for start in range(0, count, 10_000):
            some = range(start, min(start + 10_000, count))
            session.execute(
                insert(Document),
                [
                    {
                        "key": n + 1,
                        "id": f"doc_{n}",
                        "team_id": team_id,
                        "kb_id": stored,
                        "name": f"folder{n % 50:02}/{n:06}.md",
                        "title": f"Document {n}",
                        "state": DocumentState.INDEXED,
                        "latest_revision_id": f"rev_{n}",
                        "revision_id": f"rev_{n}",
                        "tags": {},
                        "created_at": at,
                        "changed_at": at,
                    }
                    for n in some
                ],
            )
            session.execute(
                insert(Revision),
                [
                    {
                        "id": f"rev_{n}",
                        "team_id": team_id,
                        "document_key": n + 1,
                        "number": 1,
                        "sha256": f"{n:064x}",
                        "size": 1,
                        "warnings": [],
                        "seconds": {},
                        "created_at": at,
                    }
                    for n in some
                ],
            )
        session.commit()
    records.close()


def watch(http: httpx.Client, path: str) -> None:
    with suppress(httpx.HTTPError), http.stream("GET", path, timeout=None) as response:
        for _ in response.iter_lines():
            pass


def processor(service: Service) -> float:
    assert service.process is not None
    fields = Path(f"/proc/{service.process.pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--documents", type=int, default=100_000)
    count = parser.parse_args().documents
    print(f"{platform.platform()}, {os.cpu_count()} cores; {count:,} documents")
    with tempfile.TemporaryDirectory() as scratch:
        service = Service(Path(scratch) / "data").start()
        team = new_team(service)
        kb = team.client.create_kb("Large").slug
        fill(service, team, kb, count)
        service.stop()
        service.start()
        client = Client(service.url, team.key, team.slug)
        headers = {"Authorization": f"Bearer {team.key}"}
        path = f"/api/v1/teams/{team.slug}/kbs/{kb}"
        with httpx.Client(base_url=service.url, headers=headers, timeout=60) as http:
            asked = [
                "",
                "/documents?limit=200",
                "/documents?limit=200&name=0999",
                "/documents?limit=200&folder=folder07",
                "/documents?state=failed",
                "/folders",
            ]
            for query in asked:
                best = min(
                    http.get(path + query).raise_for_status().elapsed.total_seconds()
                    for _ in range(5)
                )
                print(f"  GET .../{kb}{query:<36} {best * 1000:7.0f} ms")
            started = time.perf_counter()
            with http.stream("GET", f"{path}/events") as response:
                next(line for line in response.iter_lines() if line == "event: kb")
            print(f"  first message of a stream {1000 * (time.perf_counter() - started):.0f} ms")
            watching = 0
            for requested in (0, 1, 3):
                for _ in range(requested - watching):
                    threading.Thread(
                        target=watch, args=(http, f"{path}/events"), daemon=True
                    ).start()
                watching = requested
                started, before = time.perf_counter(), processor(service)
                for n in range(ADDED):
                    text = f"# Note\n\nNote {n} of {watching} was written down.\n"
                    client.add_document(kb, text.encode(), f"new/{watching}-{n}.md", wait=True)
                spent = time.perf_counter() - started, processor(service) - before
                print(
                    f"  {watching} watching: {ADDED} documents in {spent[0]:.1f} s, {spent[1]:.1f}"
                    " s of the processor"
                )
        service.stop()


if __name__ == "__main__":
    main()
