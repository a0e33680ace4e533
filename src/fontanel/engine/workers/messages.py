"""Messages between the service and its worker processes, and their framing.

A message is a length (4 bytes, big-endian) and then JSON with a `type` tag. Bytes that belong to a
message (pictures, contained files, vectors) follow it; the message has their sizes.
"""

from __future__ import annotations

import json
from datetime import date
from typing import IO, Any, TypeVar

import msgspec

from fontanel.core.describing.extractive import About
from fontanel.core.passages.splitting import Passage
from fontanel.core.reading import Reading, Report
from fontanel.core.reading.data.row_documents import Columns
from fontanel.core.reading.model import Picture
from fontanel.core.reading.paged.pdf_links import Link
from fontanel.core.reading.pictures import PictureText
from fontanel.core.reading.spoken.cues import Cue
from fontanel.core.validity import ValidityStatement
from fontanel.facts import SplitSettings

_LENGTH_BYTES = 4


class Message(msgspec.Struct, kw_only=True, tag=True):
    """A message; its class is its tag."""


# Requests to a reading process


class ReadDocument(Message):
    """Read and split a document."""

    path: str
    name: str
    splitting: SplitSettings
    columns: Columns | None = None
    """What a table's columns mean; its rows become documents."""
    repeated: list[str] = []
    """Fingerprints of blocks that are left out at the edges of a web page."""
    transcript: list[Cue] | None = None
    """What is said in a recording without subtitles."""
    pictures: dict[str, PictureText] = {}
    """What a model says about its pictures, by their hashes."""
    reading: str | None = None
    """Path of the stored reading, where the document has been read before: it is only split."""


class DrawPage(Message):
    """Draw a page as a PNG."""

    path: str
    media_type: str
    page: int
    width: int
    """Pixels across."""


class FindLinks(Message):
    """Find where a page of a PDF leads."""

    path: str
    page: int


class TakePictures(Message):
    """Take pictures out of a document, by their hashes."""

    path: str
    media_type: str
    pictures: list[str]


class CutSound(Message):
    """Cut a part out of a recording, as a FLAC file."""

    path: str
    media_type: str
    start: float
    seconds: float


class VerifyPack(Message):
    """Verify a pack before it is imported."""

    path: str
    embedder: str | None
    dimensions: int


# Replies of a reading process


class PagesRead(Message):
    """Progress: pages read so far, of how many."""

    done: int
    total: int


class Splitting(Message):
    """Progress: the document is read, and being split."""


class FileInfo(msgspec.Struct):
    """A file inside a document; its bytes follow the message."""

    name: str
    tags: dict[str, str]
    size: int


class DocumentRead(Message):
    """A document that was read and split."""

    language: str
    passages: list[Passage]
    about: About
    reading: Reading | None = None
    """None when the document had been read before."""
    report: Report | None = None
    media_type: str | None = None
    edges: list[str] = []
    """Fingerprints of the blocks at the edges of a web page."""
    validity: list[ValidityStatement] = []
    """What it says about whether it is in force."""
    opening_dates: list[date] = []
    seconds: dict[str, float] = {}
    files: list[FileInfo] = []

    @property
    def attached(self) -> list[int]:
        """Sizes of the parts that follow."""
        return [file.size for file in self.files]


class PageDrawn(Message):
    """A page as a PNG, which follows."""

    size: int

    @property
    def attached(self) -> list[int]:
        """Sizes of the parts that follow."""
        return [self.size]


class LinksFound(Message):
    """Where a page leads."""

    links: list[Link]


class TranscriptNeeded(Message):
    """A recording has no subtitles; `duration` is its length in seconds, if it is known."""

    media_type: str
    duration: float | None


class PicturesOnly(Message):
    """A document without text has pictures that can be described."""

    media_type: str
    pictures: list[Picture]
    error: str


class PicturesTaken(Message):
    """Pictures as JPEG, which follow; each is named by its hash."""

    files: list[FileInfo]

    @property
    def attached(self) -> list[int]:
        """Sizes of the parts that follow."""
        return [file.size for file in self.files]


class SoundCut(Message):
    """A part of a recording, which follows.

    `end` is the second where it ends, `last` whether the recording ends there.
    """

    size: int
    end: float
    last: bool

    @property
    def attached(self) -> list[int]:
        """Sizes of the parts that follow."""
        return [self.size]


class PackVerified(Message):
    """A pack can be imported."""


class Failed(Message):
    """What was asked for cannot be done. `cause` is for the log."""

    code: str
    error: str
    cause: str = ""


# Embedding


class EmbedTexts(Message):
    """Embed texts."""

    texts: list[str]


class Vectors(Message):
    """Vectors of texts, which follow as float32 rows."""

    rows: int
    columns: int

    @property
    def attached(self) -> list[int]:
        """Sizes of the parts that follow."""
        return [self.rows * self.columns * 4]


ReadRequest = ReadDocument | DrawPage | FindLinks | TakePictures | CutSound | VerifyPack
ReadReply = (
    PagesRead
    | Splitting
    | DocumentRead
    | TranscriptNeeded
    | PicturesOnly
    | PicturesTaken
    | PageDrawn
    | LinksFound
    | SoundCut
    | PackVerified
    | Failed
)

M = TypeVar("M")


def message_bytes(message: msgspec.Struct) -> bytes:
    """Return a message as `receive` reads it."""
    data = json.dumps(msgspec.to_builtins(message)).encode()
    return len(data).to_bytes(_LENGTH_BYTES, "big") + data


def send(stream: IO[bytes], message: msgspec.Struct) -> None:
    """Write a message."""
    rest = memoryview(message_bytes(message))
    while rest:
        rest = rest[stream.write(rest) :]
    stream.flush()


def receive(stream: IO[bytes], kind: type[M] | Any) -> M | None:
    """Read a message of a type, or of a union of types; None at the end of the stream.

    Raises:
        ValueError: the message is of another type.
    """
    head = read_exactly(stream, _LENGTH_BYTES)
    if head is None:
        return None
    body = read_exactly(stream, int.from_bytes(head, "big"))
    if body is None:
        return None
    message: M = msgspec.convert(json.loads(body), kind)
    return message


def read_exactly(stream: IO[bytes], count: int) -> bytes | None:
    """Read an exact number of bytes; None if the stream ends before."""
    parts: list[bytes] = []
    while count:
        part = stream.read(count)
        if not part:
            return None
        parts.append(part)
        count -= len(part)
    return b"".join(parts)
