"""Reading: from the bytes of a document to a `Reading`, its text and blocks."""

from fontanel.core.reading.detect import DRAWN, MEDIA_TYPES, MHTML, RECORDINGS, detect_media_type
from fontanel.core.reading.model import (
    Block,
    ContainedFile,
    NeedsTranscript,
    Place,
    Reading,
    ReadingBuilder,
    ReadingFailed,
    Unit,
)
from fontanel.core.reading.registry import contained_files, read, read_spoken
from fontanel.core.reading.report import Report, report_of

__all__ = [
    "DRAWN",
    "MEDIA_TYPES",
    "MHTML",
    "RECORDINGS",
    "Block",
    "ContainedFile",
    "NeedsTranscript",
    "Place",
    "Reading",
    "ReadingBuilder",
    "ReadingFailed",
    "Report",
    "Unit",
    "contained_files",
    "detect_media_type",
    "read",
    "read_spoken",
    "report_of",
]
