"""The code of a process that reads documents under limits."""

from __future__ import annotations

import contextlib
import json
import os
import resource
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import IO

from fontanel.core.describing.extractive import describe
from fontanel.core.passages.splitting import split
from fontanel.core.reading import (
    RECORDINGS,
    ContainedFile,
    NeedsTranscript,
    Reading,
    ReadingFailed,
    contained_files,
    detect_media_type,
    read,
    read_spoken,
    report_of,
)
from fontanel.core.reading.detect import HTML, MHTML
from fontanel.core.reading.registry import PicturesAlone, take_pictures
from fontanel.core.reading.repetition import edge_fingerprints, leave_out
from fontanel.core.validity import find_statements, opening_dates
from fontanel.engine.workers.framing import Failed, Message, receive, send
from fontanel.engine.workers.lifetime import NICE
from fontanel.engine.workers.messages import (
    CutSound,
    DocumentRead,
    DrawPage,
    FileInfo,
    FindLinks,
    LinksFound,
    PackVerified,
    PageDrawn,
    PagesRead,
    PicturesOnly,
    PicturesTaken,
    ReadDocument,
    ReadRequest,
    SoundCut,
    Splitting,
    TakePictures,
    TranscriptNeeded,
    VerifyPack,
)
from fontanel.errors import exception_frames

CountTokens = Callable[[Sequence[str]], list[int]]
#: A reply and the bytes that follow it.
Reply = tuple[Message, list[bytes]]

#: Pages between two reports of progress.
_PROGRESS_EVERY = 10
#: The bytes at the beginning of a file by which a recording is recognised.
_HEAD = 4096


def limit(memory_mb: int) -> None:
    """Limit memory, forbid writing files and core dumps, and lower the priority."""
    resource.setrlimit(resource.RLIMIT_AS, (memory_mb * 1024 * 1024, memory_mb * 1024 * 1024))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    os.nice(NICE)


def read_documents(requests: IO[bytes], replies: IO[bytes], embedder: Path, memory_mb: int) -> None:
    """Handle requests to read, draw or verify, until there are no more."""
    count_tokens = _token_counter(embedder)
    limit(memory_mb)
    while request := receive(requests, ReadRequest):
        reply, attached = _attempt(request, replies, count_tokens)
        send(replies, reply)
        for part in attached:
            replies.write(part)
        replies.flush()


def _token_counter(embedder: Path) -> CountTokens:
    """Return a function that counts tokens as the embedder does, or estimates them."""
    from fontanel.core.embedding.encoder import estimate_tokens

    if not (embedder / "tokenizer.json").is_file():
        return estimate_tokens
    from tokenizers import Tokenizer

    tokenizer = Tokenizer.from_file(str(embedder / "tokenizer.json"))
    tokenizer.no_padding()
    tokenizer.no_truncation()

    def count(texts: Sequence[str]) -> list[int]:
        encoded = tokenizer.encode_batch_fast(list(texts), add_special_tokens=False)
        return [len(item.ids) for item in encoded]

    return count


def _attempt(request: ReadRequest, replies: IO[bytes], count_tokens: CountTokens) -> Reply:
    """Handle a request; a parser's failure fails this request only."""
    try:
        return _do(request, replies, count_tokens)
    except NeedsTranscript as needs:
        return TranscriptNeeded(media_type=needs.media_type, duration=needs.seconds), []
    except PicturesAlone as alone:
        return PicturesOnly(
            media_type=alone.media_type, pictures=list(alone.pictures), error=str(alone)
        ), []
    except ReadingFailed as failure:
        return Failed(code=failure.code, error=str(failure)), []
    except (MemoryError, RecursionError):
        return Failed(
            code="too_large",
            error="Reading the file takes more memory than is allowed. Add it in smaller parts.",
        ), []
    except Exception as error:
        return Failed(
            code="damaged",
            error=f"The file cannot be read ({type(error).__name__}). Save it again and add the "
            "new file.",
            cause=exception_frames(error),
        ), []


def _do(request: ReadRequest, replies: IO[bytes], count_tokens: CountTokens) -> Reply:
    if isinstance(request, DrawPage):
        from fontanel.core.reading.paged.drawing import draw_page

        data = Path(request.path).read_bytes()
        picture = draw_page(data, request.media_type, request.page, request.width)
        return PageDrawn(size=len(picture)), [picture]
    if isinstance(request, FindLinks):
        from fontanel.core.reading.paged.pdf_links import links_of_page

        return LinksFound(links=links_of_page(Path(request.path).read_bytes(), request.page)), []
    if isinstance(request, CutSound):
        return _cut_sound(request)
    if isinstance(request, TakePictures):
        data = Path(request.path).read_bytes()
        taken = take_pictures(data, request.media_type, request.pictures)
        files = [FileInfo(name, {}, len(picture)) for name, picture in taken.items()]
        return PicturesTaken(files=files), list(taken.values())
    if isinstance(request, VerifyPack):
        return _verify_pack(request), []
    if request.reading is not None:
        return _split_again(request, request.reading, count_tokens), []
    return _read(request, replies, count_tokens)


class _Stopwatch:
    """The seconds of each stage."""

    def __init__(self) -> None:
        self.seconds: dict[str, float] = {}
        self._since = time.perf_counter()

    def lap(self, stage: str) -> None:
        """End a stage."""
        now = time.perf_counter()
        self.seconds[stage] = round(now - self._since, 4)
        self._since = now


def _read(request: ReadDocument, replies: IO[bytes], count_tokens: CountTokens) -> Reply:
    """Read and split a document; the bytes of the files inside it follow the reply."""
    watch = _Stopwatch()

    def progress(done: int, total: int) -> None:
        if done % _PROGRESS_EVERY == 0 or done == total:
            send(replies, PagesRead(done=done, total=total))

    media_type = _recording_type(request)
    data = b"" if media_type else Path(request.path).read_bytes()
    if media_type:
        # Never read whole: a film may be larger than the memory.
        with Path(request.path).open("rb") as stream:
            reading = read_spoken(stream, request.name, media_type, request.transcript)
    else:
        blank = not data.strip(b"\0 \t\r\n")
        media_type = None if blank else detect_media_type(data, request.name)
        reading = read(data, request.name, media_type, progress, request.pictures)
    files: list[ContainedFile] = []
    if request.columns is not None:
        from fontanel.core.reading.data.row_documents import row_documents

        files = row_documents(data, media_type or "", request.columns)
        reading = replace(reading, container=True)
    elif media_type is not None:
        files = contained_files(data, media_type)
    edges = edge_fingerprints(reading) if media_type in (HTML, MHTML) else []
    reading = leave_out(reading, request.repeated) if edges else reading
    watch.lap("read")
    send(replies, Splitting())
    passages = split(reading, request.splitting, count_tokens)
    watch.lap("split")
    about = describe(reading)
    watch.lap("describe")
    reply = DocumentRead(
        language=reading.language,
        passages=passages,
        about=about,
        reading=reading,
        report=report_of(reading),
        media_type=media_type,
        validity=list(find_statements(reading)),
        opening_dates=list(opening_dates(reading)),
        seconds=watch.seconds,
        edges=edges,
        files=[FileInfo(file.name, file.tags, len(file.data)) for file in files],
    )
    return reply, [file.data for file in files]


def _recording_type(request: ReadDocument) -> str | None:
    """Return the type of a recording; None for other files."""
    with Path(request.path).open("rb") as stream:
        head = stream.read(_HEAD)
    with contextlib.suppress(ReadingFailed):
        media_type = detect_media_type(head, request.name)
        return media_type if media_type in RECORDINGS else None
    return None


def _cut_sound(request: CutSound) -> Reply:
    from fontanel.core.reading.spoken.sound import cut_sound

    with Path(request.path).open("rb") as stream:
        sound, end, last = cut_sound(stream, request.media_type, request.start, request.seconds)
    return SoundCut(size=len(sound), end=end, last=last), [sound]


def _split_again(request: ReadDocument, reading: str, count_tokens: CountTokens) -> DocumentRead:
    """Split a document that has been read before, for another edition."""
    existing = Reading.from_dict(json.loads(Path(reading).read_bytes()))
    return DocumentRead(
        language=existing.language,
        passages=split(existing, request.splitting, count_tokens),
        about=describe(existing),
        validity=list(find_statements(existing)),
        opening_dates=list(opening_dates(existing)),
    )


def _verify_pack(request: VerifyPack) -> Message:
    from fontanel.engine.editions.pack_reader import verify_pack
    from fontanel.errors import Refused

    try:
        verify_pack(Path(request.path), request.embedder, request.dimensions)
    except Refused as refused:
        cause = repr(refused.__cause__)[:500]
        return Failed(code="damaged", error=str(refused), cause=cause)
    return PackVerified()
