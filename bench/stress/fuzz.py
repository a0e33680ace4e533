"""Feed mutated files to the readers: each must give a reading or one reason.

    .venv/bin/python bench/stress/fuzz.py [--each 10000] [--seconds 10] [--only pdf,html]

Real files of every format are cut, flipped, duplicated and spliced; for zipped formats also the
entries inside. Each input is read under the limits of a worker process. What raises anything but
ReadingFailed, or exceeds its time, is stored in `var/bench/fuzz` and reported.
"""

from __future__ import annotations

import argparse
import io
import itertools
import multiprocessing
import os
import queue
import random
import resource
import signal
import sys
import time
import zipfile
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[2]))

from fontanel.core.embedding.encoder import estimate_tokens
from fontanel.core.passages.splitting import split
from fontanel.core.reading import (
    ReadingFailed,
    contained_files,
    detect_media_type,
    read,
)
from fontanel.core.reading.paged import pdf, picture
from fontanel.facts import SplitSettings

ROOT = Path(__file__).parents[2]
KEPT = ROOT / "var" / "bench" / "fuzz"


def seeds() -> dict[str, list[tuple[str, bytes]]]:
    from tests.core import samples

    results = [
        (path.name, path.read_bytes())
        for path in (ROOT / "demo/documents").rglob("*")
        if path.is_file() and path.stat().st_size < 60_000
    ]
    results += [
        ("a.pptx", samples.deck()),
        ("a.xlsx", samples.workbook()),
        ("a.eml", samples.message(html=True)),
        (
            "a.epub",
            samples.epub(
                {
                    "one.xhtml": (
                        "<h1>One</h1><p>First.</p><table><tr><td>a</td><td>b</td></tr></table>"
                    )
                }
            ),
        ),
        (
            "a.odt",
            samples.odt(
                "<text:h>One</text:h><text:p>Two</text:p><text:list><text:list-item><text:p>x</text:p></text:list-item></text:list>"
            ),
        ),
        ("a.rtf", samples.rich_text()),
        ("a.csv", b'Berth,Depth\nNorth,7\nSouth,"4, or so"\n' * 20),
        ("a.json", b'{"a": [{"b": 1, "c": "x"}, {"b": 2}], "d": {"e": null}}'),
        ("a.jsonl", b'{"a": 1, "b": 2}\n' * 5),
        ("a.vtt", b"WEBVTT\n\n00:01.000 --> 00:02.000\n<v A>Hello.\n"),
        (
            "a.rst",
            (
                b"Title\n=====\n\n- a\n- b\n\n.. code::\n\n   x\n\n==== ====\na    b\n==== ====\n1 "
                b"   2\n==== ====\n"
            ),
        ),
        ("a.zip", samples.zipped({"x.md": "# X", "y/z.txt": "text"})),
        ("a.ods", samples.ods([["Berth", "Depth"], ["North", "7"]])),
        (
            "a.srt",
            (
                b"1\n00:00:01,000 --> 00:00:02,000\nHello.\n\n2\n00:00:03,000 -->"
                b" 00:00:04,500\nAgain.\n"
            ),
        ),
        *(
            (f"a.{kind}", samples.drawn(["Berth 7"], kind=kind.upper(), width=300))
            for kind in ("png", "jpeg", "tiff", "webp")
        ),
    ]
    kinds: dict[str, list[tuple[str, bytes]]] = {}
    for name, data in results:
        kinds.setdefault(name.rsplit(".", 1)[1], []).append((name, data))
    return kinds


def mutate(data: bytes, rng: random.Random) -> bytes:
    if data[:2] == b"PK" and rng.random() < 0.7:
        return _mutate_inside(data, rng)
    out = bytearray(data)
    for _ in range(rng.choice((1, 1, 2, 4, 16))):
        if not out:
            break
        at = rng.randrange(len(out))
        length = min(len(out) - at, rng.choice((1, 2, 8, 64, 512)))
        kind = rng.randrange(6)
        if kind == 0:
            out[at] ^= 1 << rng.randrange(8)
        elif kind == 1:
            del out[at : at + length]
        elif kind == 2:
            out[at:at] = out[at : at + length] * rng.choice((1, 3, 50))
        elif kind == 3:
            out[at : at + length] = rng.randbytes(length)
        elif kind == 4:
            out[at:at] = rng.choice(
                (
                    b"\0",
                    b"\xff\xff\xff\xff",
                    b"<",
                    b"((((((",
                    b"{" * 200,
                    b"<table>" * 50,
                    b"9" * 20,
                    b"\n\n",
                )
            )
        else:
            out = out[:at]
    return bytes(out)


def _mutate_inside(data: bytes, rng: random.Random) -> bytes:
    """Change one entry of an archive and pack it again, to reach the parser behind it."""
    out = io.BytesIO()
    with (
        zipfile.ZipFile(io.BytesIO(data)) as source,
        zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as target,
    ):
        names = source.namelist()
        chosen = rng.choice(names)
        for name in names:
            content = source.read(name)
            target.writestr(
                name, mutate(content, rng) if name == chosen and content[:2] != b"PK" else content
            )
    return out.getvalue()


def attempt(name: str, data: bytes) -> str:
    """Return "read", or the code of the failure; raise anything but ReadingFailed."""
    try:
        media_type = detect_media_type(data, name) if data.strip(b"\0 \t\r\n") else None
        reading = read(data, name, media_type)
        passages = split(reading, SplitSettings(), estimate_tokens)
        assert all(reading.text[p.start : p.end] == p.text for p in passages)
        if media_type:
            contained_files(data, media_type)
    except ReadingFailed as failure:
        return failure.code
    except (MemoryError, RecursionError):
        return "too_large"
    return "read"


def work(
    first: int,
    each: int,
    only: set[str],
    seconds: int,
    results: multiprocessing.Queue[tuple[str, str]],
) -> None:
    resource.setrlimit(resource.RLIMIT_AS, (2 << 30, 2 << 30))
    kinds = {kind: files for kind, files in seeds().items() if not only or kind in only}
    # What a picture shows is recognised in a second or so: here its file is read, up to there.
    for module in (picture, pdf):
        module.recognise = lambda *ignored: []  # type: ignore[attr-defined]
        module.Recogniser = lambda: None  # type: ignore[attr-defined]

    def overran(number: int, frame: object) -> None:
        raise TimeoutError

    signal.signal(signal.SIGALRM, overran)
    for number, kind in itertools.product(range(first, first + each), kinds):
        rng = random.Random(f"{kind} {number}")
        name, data = kinds[kind][number % len(kinds[kind])]
        changed = mutate(data, rng)
        (KEPT / f"now-{os.getpid()}").write_bytes(changed)
        signal.alarm(seconds)
        try:
            outcome = attempt(name, changed)
        except BaseException as error:
            outcome = f"{type(error).__name__}: {error}"[:120]
            (KEPT / f"{number}-{name}").write_bytes(changed)
        signal.alarm(0)
        results.put((name, outcome))
    results.put(("", "done"))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--each", type=int, default=10_000, help="inputs for each kind of file")
    parser.add_argument(
        "--only", default="", help="kinds by their suffix, with commas between them"
    )
    parser.add_argument("--seconds", type=int, default=10, help="longest time for one input")
    arguments = parser.parse_args()
    KEPT.mkdir(parents=True, exist_ok=True)
    results: multiprocessing.Queue[tuple[str, str]] = multiprocessing.Queue()
    half = arguments.each // 2
    only = {kind for kind in arguments.only.split(",") if kind}
    workers = [
        multiprocessing.Process(
            target=work, args=(n * half, half, only, arguments.seconds, results)
        )
        for n in range(2)
    ]
    for worker in workers:
        worker.start()
    started, counts, bad, kinds, done = (
        time.monotonic(),
        Counter[str](),
        Counter[str](),
        Counter[str](),
        0,
    )
    while done < 2:
        try:
            name, outcome = results.get(timeout=arguments.seconds + 20)
        except queue.Empty:
            bad["nothing came of: no answer in time, see the files named now-*"] += 1
            break
        if outcome == "done":
            done += 1
            continue
        kinds[name.rsplit(".", 1)[1]] += 1
        if ":" in outcome:
            bad[f"{name}: {outcome}"] += 1
        else:
            counts[outcome] += 1
    died = [worker.pid for worker in workers if not worker.is_alive() and worker.exitcode]
    print(
        f"{sum(counts.values()) + sum(bad.values()):,} inputs in {time.monotonic() - started:.0f}"
        f" s: {dict(counts)}"
    )
    print("by kind:", ", ".join(f"{kind} {count:,}" for kind, count in sorted(kinds.items())))
    for what, count in bad.most_common():
        print(f"  {count} x {what}")
    print("crashed processes:", died or "none")
    sys.exit(1 if bad or died else 0)


if __name__ == "__main__":
    main()
