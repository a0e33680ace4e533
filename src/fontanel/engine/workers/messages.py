"""Messages between the service and a reading process."""

from __future__ import annotations

from datetime import date

import msgspec

from fontanel.core.describing.extractive import About
from fontanel.core.passages.splitting import Passage
from fontanel.core.reading import Reading, Report
from fontanel.core.reading.data.row_documents import Columns
from fontanel.core.reading.model import Picture
from fontanel.core.reading.paged.link import Link
from fontanel.core.reading.pictures import PictureText
from fontanel.core.reading.spoken.cues import Cue
from fontanel.core.validity import ValidityStatement
from fontanel.engine.workers.framing import Failed, Message
from fontanel.facts import SplitSettings

# Requests


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


# Replies


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
