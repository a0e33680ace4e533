"""Texts per second of the whole ingest against the bare embedder, in one run.

The service is started on an empty data directory and receives the documents from its client; then
the same texts go straight through the embedder, with as many threads.
The goal is 0.8 of the bare embedder.
"""

from __future__ import annotations

import argparse
import os
import platform
import re
import sqlite3
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from fontanel.client import Client
from fontanel.core.embedding.encoder import OnnxEmbedder
from fontanel.core.passages.fields import window_texts

from collection import EMBEDDER, ROOT  # isort: skip

THREADS = 2


def documents(folder: Path | None, target: int, *, short: bool) -> list[tuple[str, bytes]]:
    """Return the files of a folder, or else variations of the demo's texts.

    About `target` passages: long documents by default, with `short` documents of one or two pages
    with small sections.
    """
    if folder is not None:
        return [
            (p.relative_to(folder).as_posix(), p.read_bytes())
            for p in sorted(folder.rglob("*"))
            if p.is_file()
        ]
    sources = sorted((ROOT / "demo" / "text").glob("*/*.md"))
    out = []
    for round_ in range(target // (230 if short else 115) + 1):
        # Each round has its own words, so that no vector comes from the cache.
        texts = [
            p.read_text().split("---\n", 2)[2].replace(". ", f" in year {1900 + round_}. ")
            for p in sources
        ]
        if short:
            out += [
                (f"round-{round_}/{p.stem}.md", t.encode())
                for p, t in zip(sources, texts, strict=True)
            ]
        else:
            plain = [re.sub(r"^##+ .*$", "", text, flags=re.M) for text in texts]
            out += [
                (f"round-{round_}-{part}.md", "\n\n".join(plain[part::4]).encode())
                for part in range(4)
            ]
    return out


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--folder", type=Path)
    parser.add_argument("--passages", type=int, default=2000)
    parser.add_argument("--short", action="store_true", help="many documents of a page or two")
    arguments = parser.parse_args()
    files = documents(arguments.folder, arguments.passages, short=arguments.short)
    with tempfile.TemporaryDirectory() as scratch:
        data = Path(scratch) / "data"
        environment = {
            **os.environ,
            "FONTANEL_EMBEDDER": str(EMBEDDER),
            "FONTANEL_EMBED_THREADS": str(THREADS),
        }
        service = subprocess.Popen(
            [sys.executable, "-m", "fontanel.cli", "serve", "--data", str(data), "--port", "8479"],
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
            env=environment,
        )
        assert service.stdout is not None
        password = ""
        for line in service.stdout:
            if "with the password" in line:
                password = line.split()[-1]
            if "listens" in line:
                break
        with Client("http://127.0.0.1:8479", timeout=600) as client:
            while True:
                try:
                    client.sign_in("operator@localhost", password)
                    break
                except Exception:
                    time.sleep(0.1)
            team = client.create_team("Bench")
            client.use_team(team.slug)
            key = client.make_key("bench", "owner", expires_in_days=7).secret
        with Client("http://127.0.0.1:8479", key, team.slug, timeout=600) as client:
            kb = client.create_kb("Bench").slug
            started = time.monotonic()
            for name, content in files:
                client.add_document(kb, content, name)
            uploaded = time.monotonic() - started
            while client.show_kb(kb).pending:
                time.sleep(0.25)
            whole = time.monotonic() - started
            failed = client.show_kb(kb).failed
        service.terminate()
        service.wait()
        with sqlite3.connect(data / "fontanel.db") as db:
            rows = db.execute("SELECT embedded_text, text FROM passages").fetchall()
    # The service embeds each passage and its sentence windows, and the same text once.
    texts = list(
        dict.fromkeys(t for embedded, text in rows for t in (embedded, *window_texts(text)))
    )
    embedder = OnnxEmbedder(EMBEDDER, threads=THREADS)
    started = time.monotonic()
    embedder.embed(texts)
    bare = time.monotonic() - started
    print(
        f"machine: {platform.machine()}, {os.cpu_count()} cores, Python {platform.python_version()}"
    )
    print(
        f"documents {len(files)} ({failed} failed), passages {len(rows)}, texts {len(texts)},"
        f" tokens {sum(embedder.count_tokens(texts))}"
    )
    print(f"upload    {uploaded:7.1f} s")
    print(f"ingest    {whole:7.1f} s   {len(texts) / whole:7.1f} texts/s")
    print(f"bare      {bare:7.1f} s   {len(texts) / bare:7.1f} texts/s")
    print(f"ratio     {bare / whole:7.2f}   (wanted: at least 0.80)")


if __name__ == "__main__":
    main()
