"""Reading: the bytes of a document become a `Reading`: its text, and the blocks of which the text is made."""

from fontanel.core.reading.detect import MEDIA_TYPES, detect_media_type
from fontanel.core.reading.model import Block, Reading, ReadingBuilder, ReadingFailed
from fontanel.core.reading.read import read

__all__ = [
    "MEDIA_TYPES",
    "Block",
    "Reading",
    "ReadingBuilder",
    "ReadingFailed",
    "detect_media_type",
    "read",
]
