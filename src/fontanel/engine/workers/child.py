"""What runs inside a worker process: reads documents under limits, or embeds texts. Talks over stdin and stdout.

A message is a length (4 bytes, big-endian), then JSON; vectors follow theirs as raw float32. The process ends when its
parent does.
"""

from __future__ import annotations

import ctypes
import json
import os
import resource
import signal
import sys
import time
from dataclasses import asdict, replace
from pathlib import Path
from typing import IO, Any

from fontanel.core.describing.extractive import describe
from fontanel.core.passages.splitting import split
from fontanel.core.reading import (
    ContainedFile,
    Reading,
    ReadingFailed,
    contained_files,
    detect_media_type,
    read,
    report_of,
)
from fontanel.facts import SplitSettings


def receive(stream: IO[bytes]) -> dict[str, Any] | None:
    """The next message; None at the end of the stream."""
    head = read_exactly(stream, 4)
    if head is None:
        return None
    body = read_exactly(stream, int.from_bytes(head, "big"))
    if body is None:
        return None
    message: dict[str, Any] = json.loads(body)
    return message


def read_exactly(stream: IO[bytes], count: int) -> bytes | None:
    """So many bytes, also from a stream without a buffer; None when it ends before."""
    parts: list[bytes] = []
    while count:
        part = stream.read(count)
        if not part:
            return None
        parts.append(part)
        count -= len(part)
    return b"".join(parts)


def send(stream: IO[bytes], message: dict[str, Any]) -> None:
    data = json.dumps(message).encode()
    rest = memoryview(len(data).to_bytes(4, "big") + data)
    while rest:
        rest = rest[stream.write(rest) :]
    stream.flush()


def die_with_parent() -> None:
    """Ask the kernel to kill this process when its parent goes, even by `kill -9` (Linux)."""
    if sys.platform == "linux":
        ctypes.CDLL(None).prctl(1, signal.SIGKILL)
        if os.getppid() == 1:
            sys.exit(1)


def limit(memory_mb: int) -> None:
    """Bound memory, forbid writing files and core dumps, lower the priority below the serving process."""
    resource.setrlimit(resource.RLIMIT_AS, (memory_mb * 1024 * 1024, memory_mb * 1024 * 1024))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    os.nice(5)


def read_documents(requests: IO[bytes], replies: IO[bytes], embedder: Path, memory_mb: int) -> None:
    from fontanel.core.embedding.encoder import estimate_tokens

    count_tokens = estimate_tokens
    if (embedder / "tokenizer.json").is_file():
        from tokenizers import Tokenizer

        tokenizer = Tokenizer.from_file(str(embedder / "tokenizer.json"))
        tokenizer.no_padding()
        tokenizer.no_truncation()

        def count_tokens(texts: Any) -> list[int]:
            return [
                len(item.ids)
                for item in tokenizer.encode_batch_fast(list(texts), add_special_tokens=False)
            ]

    limit(memory_mb)
    while request := receive(requests):
        attached: list[bytes] = []
        try:
            reply: dict[str, Any]
            if "draw" in request:
                attached = [_draw(request)]
                reply = {"attached": [len(attached[0])]}
            elif "pack" in request:
                reply = _verify_pack(request)
            elif "links" in request:
                reply = {"links": _page_links(request)}
            else:
                reply, attached = _read(request, replies, count_tokens)
        except ReadingFailed as failure:
            reply = {"code": failure.code, "error": str(failure)}
        except (MemoryError, RecursionError):
            reply = {
                "code": "too_large",
                "error": "Reading the file takes more memory than is allowed. Add it in smaller parts.",
            }
        except Exception as error:  # whatever a parser stumbles over fails this document alone
            reply = {
                "code": "damaged",
                "error": f"The file cannot be read ({type(error).__name__}). Save it again and add it anew.",
            }
        send(replies, reply)
        for part in attached if "error" not in reply else []:
            replies.write(part)
        replies.flush()


def _read(
    request: dict[str, Any], replies: IO[bytes], count_tokens: Any
) -> tuple[dict[str, Any], list[bytes]]:
    """Read and split one document. Returns the reply, and the bytes of the files inside it that follow the reply."""
    seconds: dict[str, float] = {}
    since = time.perf_counter()

    def lap(stage: str) -> None:
        nonlocal since
        seconds[stage] = round(time.perf_counter() - since, 4)
        since = time.perf_counter()

    def progress(done: int, total: int) -> None:
        if done % 10 == 0 or done == total:
            send(replies, {"progress": [done, total]})

    if "reading" in request:
        known = Reading.from_dict(json.loads(Path(request["reading"]).read_bytes()))
        return _split_again(known, request, count_tokens), []
    data = Path(request["path"]).read_bytes()
    media_type = detect_media_type(data, request["name"]) if data.strip(b"\0 \t\r\n") else None
    reading = read(data, request["name"], media_type, progress)
    inside: list[ContainedFile] = []
    if columns := request.get("columns"):
        from fontanel.core.reading.data.row_documents import Columns, row_documents

        meaning = Columns(
            tuple(columns["text"]), columns.get("title"), tuple(columns.get("tags", ()))
        )
        inside = row_documents(data, media_type or "", meaning)
        reading = replace(reading, container=True)
    elif media_type is not None:
        inside = contained_files(data, media_type)
    lap("read")
    send(replies, {"stage": "splitting"})
    passages = split(reading, SplitSettings(**request["settings"]), count_tokens)
    lap("split")
    about = describe(reading)
    lap("describe")
    reply = {
        "reading": reading.to_dict(),
        "report": report_of(reading).to_dict(),
        "about": asdict(about),
        "media_type": media_type,
        "passages": [asdict(passage) for passage in passages],
        "seconds": seconds,
        "contained_files": [{"name": member.name, "tags": member.tags} for member in inside],
        "attached": [len(member.data) for member in inside],
    }
    return reply, [member.data for member in inside]


def _split_again(reading: Reading, request: dict[str, Any], count_tokens: Any) -> dict[str, Any]:
    """What another edition needs of a document that has been read before: only its cuts are new."""
    return {
        "reading": {"language": reading.language},
        "report": {},
        "about": asdict(describe(reading)),
        "media_type": None,
        "passages": [
            asdict(passage)
            for passage in split(reading, SplitSettings(**request["settings"]), count_tokens)
        ],
        "seconds": {},
        "contained_files": [],
        "attached": [],
    }


def _draw(request: dict[str, Any]) -> bytes:
    """A page as a PNG of so many pixels across."""
    from fontanel.core.reading.paged.drawing import draw_page

    return draw_page(
        Path(request["path"]).read_bytes(), request["media_type"], request["draw"], request["width"]
    )


def _page_links(request: dict[str, Any]) -> list[dict[str, Any]]:
    from fontanel.core.reading.paged.pdf_links import links_of_page

    return [
        link._asdict()
        for link in links_of_page(Path(request["path"]).read_bytes(), request["links"])
    ]


def _verify_pack(request: dict[str, Any]) -> dict[str, Any]:
    """Whether a pack can be imported; `error` says why not."""
    from fontanel.engine.editions.pack_import import verify
    from fontanel.errors import Refused

    try:
        verify(Path(request["pack"]), request["embedder"], request["dimensions"])
    except Refused as refused:
        return {"code": "damaged", "error": str(refused), "cause": repr(refused.__cause__)[:500]}
    return {}


def embed_texts(requests: IO[bytes], replies: IO[bytes], embedder: Path, threads: int) -> None:
    from fontanel.core.embedding.encoder import OnnxEmbedder

    model = OnnxEmbedder(embedder, threads=threads)
    os.nice(5)
    while request := receive(requests):
        vectors = model.embed(request["texts"])
        send(replies, {"rows": len(vectors), "columns": vectors.shape[1], "name": model.name})
        replies.write(vectors.tobytes())
        replies.flush()


def main() -> None:
    kind, embedder, number = sys.argv[1:4]
    die_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    requests, replies = sys.stdin.buffer, os.fdopen(os.dup(sys.stdout.fileno()), "wb")
    # A parser that prints must not disturb the replies.
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())
    {"read": read_documents, "embed": embed_texts}[kind](
        requests, replies, Path(embedder), int(number)
    )


if __name__ == "__main__":
    main()
