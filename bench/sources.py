"""Sources: runs over unchanged files, edits in watched folders, killed syncs.

    .venv/bin/python bench/sources.py [--documents 10000] [--edits 50] [--kills 50]
        [--only unchanged,edits,kills,remote] [--words]

"remote": objects in a bucket and pages of a site, run twice: the requests of the second run, and
its time. With `--words` the service has no embedder, which shortens the first run and does not
affect runs over unchanged items.
"""

from __future__ import annotations

import argparse
import hashlib
import os
import random
import shutil
import statistics
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import HTMLResponse, Response
from starlette.routing import Route

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT))

from tests.conftest import Service, TeamSetup, free_port, new_team  # noqa: E402

from fontanel import schemas as s  # noqa: E402
from fontanel.client import Client  # noqa: E402
from fontanel.simulators.bucket import bucket_app  # noqa: E402


def text_of(number: int, turn: int = 0) -> str:
    return (
        f"# Berth record {number}\n\nBerth record {number} of turn {turn}: the fender number"
        f" {number * 7 % 1009} was looked at, the bollard {number * 13 % 997} holds"
        f" {number % 90 + 10} tonnes, and the lamp code is zq{number}x{turn}.\n"
    )


def fill(folder: Path, count: int) -> None:
    for number in range(count):
        below = folder / f"{number % 100:02}"
        below.mkdir(parents=True, exist_ok=True)
        (below / f"{number:05}.md").write_text(text_of(number))


def started(folder: Path, *, words: bool) -> tuple[Service, TeamSetup]:
    settings = {"FONTANEL_SOURCE_ROOTS": str(folder), "FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8"}
    if words:
        settings["FONTANEL_EMBEDDER"] = str(folder / "none")
    service = Service(folder / "data", settings).start()
    team = new_team(service)
    team.client.create_kb("Kb")
    return service, team


def set_up(
    folder: Path, *, watch: bool, words: bool = False
) -> tuple[Service, TeamSetup, Client, s.SourceOut]:
    service, team = started(folder, words=words)
    settings = {"path": str(folder / "files"), "watch": watch}
    return service, team, team.client, first_run(team.client, "folder", settings)


def first_run(
    client: Client, kind: str, settings: dict[str, Any], credentials: dict[str, Any] | None = None
) -> s.SourceOut:
    """Connect a source and wait until all it holds is indexed."""
    source = client.connect_source(
        "kb",
        s.SourceIn(
            name=kind, kind=kind, settings=settings, credentials=credentials or {}, guard_share=1.0
        ),
    )
    began = time.monotonic()
    while True:
        sync = client.show_sync("kb", source.id)
        if sync.state == "done" and not sync.indexing:
            break
        print(
            f"\r{sync.state} {sync.seen} seen, {sync.indexing} being indexed   ",
            end="",
            file=sys.stderr,
        )
        time.sleep(0.5)
    print(
        f"\nfirst run of {sync.added} items, {kind}: {time.monotonic() - began:.0f} s until"
        " indexed",
        flush=True,
    )
    return source


def walk(folder: Path) -> float:
    began = time.perf_counter()
    todo = [str(folder)]
    while todo:
        with os.scandir(todo.pop()) as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    todo.append(entry.path)
                else:
                    entry.stat()
    return time.perf_counter() - began


def unchanged(client: Client, source: s.SourceOut, folder: Path) -> None:
    """Time runs against bare walks, in turns; a run's time is the service's own."""
    runs, walks = [], []
    for _ in range(9):
        walks.append(walk(folder))
        sync = client.sync_source("kb", source.id, wait=True)
        assert sync.started_at is not None
        assert sync.finished_at is not None
        assert sync.unchanged == sync.seen
        runs.append((sync.finished_at - sync.started_at).total_seconds())
    run, bare = statistics.median(runs), statistics.median(walks)
    print(
        f"{sync.seen} unchanged files: run {run * 1000:.0f} ms, bare walk with stat"
        f" {bare * 1000:.0f} ms, {run / bare:.1f} times"
    )


def wait_for(condition: Any) -> float:
    began = time.monotonic()
    while not condition():
        time.sleep(0.01)
    return time.monotonic() - began


def edits(client: Client, folder: Path, count: int, documents: int) -> None:
    """Time edits of files until search finds, or no longer finds, their words."""
    lags, removed = [], []
    random.seed(3)
    for turn in range(1, count + 1):
        number = random.randrange(documents)
        (folder / f"{number % 100:02}" / f"{number:05}.md").write_text(text_of(number, turn))
        lags.append(
            wait_for(
                lambda n=number, t=turn: (
                    client.search("kb", f"+zq{n}x{t}", mode="lexical", limit=1).hits
                )
            )
        )
    for number in random.sample(range(documents), 10):
        path = folder / f"{number % 100:02}" / f"{number:05}.md"
        name = f"files/{number % 100:02}/{number:05}.md"
        path.unlink()
        removed.append(
            wait_for(lambda n=name: all(d.name != n for d in client.list_documents("kb", name=n)))
        )
    lags.sort()
    print(
        f"{count} edits among {documents} watched files: answerable after"
        f" {statistics.median(lags):.2f} s at the median, {lags[int(len(lags) * 0.95)]:.2f} s at"
        f" p95; 10 deleted: gone after {max(removed):.2f} s at most"
    )


def remote(folder: Path, count: int) -> None:
    """Count the requests of a run over unchanged objects and pages, and embeddings."""
    service, team = started(folder, words=True)
    asked: Counter[str] = Counter()
    fill(folder / "store" / "records", count)
    served = {f"/{number:05}": text_of(number) for number in range(count)}
    first, second = bucket_app(folder / "store", "key", "a secret"), pages_app(served)

    def counted(app: Any, name: Callable[[dict[str, Any]], str]) -> Any:
        async def answer(scope: Any, receive: Any, send: Any) -> None:
            async def sent(message: Any) -> None:
                if message["type"] == "http.response.start":
                    asked[f"{name(scope)} {message['status']}"] += 1
                await send(message)

            await app(scope, receive, sent if scope["type"] == "http" else send)

        return answer

    bucket = serve(
        counted(first, lambda scope: "list" if b"list-type" in scope["query_string"] else "object")
    )
    site = serve(
        counted(second, lambda scope: "page" if scope["path"][1:].isdigit() else scope["path"])
    )
    keys = {"access_key": "key", "secret_key": "a secret"}
    plans: list[tuple[str, dict[str, Any], dict[str, Any]]] = [
        ("bucket", {"endpoint": bucket, "bucket": "records"}, keys),
        ("site", {"start": [f"{site}/"], "max_pages": 2 * count, "delay": 0}, {}),
    ]
    for kind, settings, credentials in plans:
        source = first_run(team.client, kind, settings, credentials)
        asked.clear()
        sync = team.client.sync_source("kb", source.id, wait=True)
        assert sync.started_at is not None
        assert sync.finished_at is not None
        seconds = (sync.finished_at - sync.started_at).total_seconds()
        print(
            f"{kind}: {sync.seen} seen, {sync.unchanged} unchanged, {sync.embedded} embedded,"
            f" {sync.bytes} bytes taken; {seconds:.1f} s; answered {dict(asked)}",
            flush=True,
        )
    service.stop()


def pages_app(pages: dict[str, str]) -> Any:
    """A site whose start page leads to all others; each has an ETag."""
    start = "".join(f'<p><a href="{path}">Record {path[1:]}</a></p>' for path in pages)

    async def answer(request: Request) -> Response:
        text = start if request.url.path == "/" else pages.get(request.url.path)
        if text is None:
            return Response("not there", 404)
        etag = f'"{hashlib.sha256(text.encode()).hexdigest()[:16]}"'
        if request.headers.get("if-none-match") == etag:
            return Response(status_code=304, headers={"ETag": etag})
        return HTMLResponse(
            f"<html><body><main><p>{text}</p></main></body></html>", headers={"ETag": etag}
        )

    return Starlette(routes=[Route("/{path:path}", answer)])


def serve(app: Any) -> str:
    port = free_port()
    server = uvicorn.Server(
        uvicorn.Config(app, host="127.0.0.1", port=port, log_level="error", access_log=False)
    )
    threading.Thread(target=server.run, daemon=True).start()
    while not server.started:
        time.sleep(0.01)
    return f"http://127.0.0.1:{port}"


def kills(count: int) -> None:
    """Kill the service during a run, restart it, and compare with the folder."""
    folder = Path(tempfile.mkdtemp(prefix="fontanel-kills-"))
    files = folder / "files"
    fill(files, 60)
    service, team, client, source = set_up(folder, watch=False)
    random.seed(11)
    wrong = 0
    for turn in range(1, count + 1):
        for number in random.sample(range(60), 25):
            path = files / f"{number % 100:02}" / f"{number:05}.md"
            if random.random() < 0.3:
                path.unlink(missing_ok=True)
            else:
                path.write_text(text_of(number, turn))
        client.sync_source("kb", source.id)
        time.sleep(random.uniform(0, 0.6))
        service.kill()
        service.start()
        client = Client(service.url, team.key, team.slug)
        client.wait_for_sync("kb", source.id, "latest")
        here = {str(path.relative_to(files)): path.read_text() for path in files.rglob("*.md")}
        for name in here:
            client.wait_for_document("kb", f"files/{name}")
        there = {
            d.name.removeprefix("files/"): client.original("kb", d.id).decode()
            for d in client.list_documents("kb")
        }
        results = [
            hit.document_id
            for hit in client.search("kb", "berth record", limit=100, per_document=100).hits
        ]
        wrong += here != there or len(results) != len(set(results))
        print(f"\r{turn} kills, {wrong} wrong", end="", file=sys.stderr)
    embedded = sum(
        r.embedded for d in client.list_documents("kb") for r in client.list_revisions("kb", d.id)
    )
    passages = sum(
        r.passages or 0
        for d in client.list_documents("kb")
        for r in client.list_revisions("kb", d.id)
    )
    print(
        f"\n{count} syncs killed at random: {wrong} ended otherwise than the folder; {embedded}"
        f" embedded of {passages} passages"
    )
    service.stop()
    shutil.rmtree(folder)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--documents", type=int, default=10_000)
    parser.add_argument("--edits", type=int, default=50)
    parser.add_argument("--kills", type=int, default=50)
    parser.add_argument("--only", default="unchanged,edits,kills,remote")
    parser.add_argument("--words", action="store_true")
    arguments = parser.parse_args()
    requested = arguments.only.split(",")
    if "unchanged" in requested or "edits" in requested:
        folder = Path(tempfile.mkdtemp(prefix="fontanel-sources-"))
        fill(folder / "files", arguments.documents)
        service, _, client, source = set_up(folder, watch=True, words=arguments.words)
        if "unchanged" in requested:
            unchanged(client, source, folder / "files")
        if "edits" in requested:
            edits(client, folder / "files", arguments.edits, arguments.documents)
        service.stop()
        shutil.rmtree(folder)
    if "remote" in requested:
        folder = Path(tempfile.mkdtemp(prefix="fontanel-remote-"))
        remote(folder, arguments.documents)
        shutil.rmtree(folder)
    if "kills" in requested:
        kills(arguments.kills)


if __name__ == "__main__":
    main()
