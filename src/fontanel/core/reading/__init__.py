"""Reading: the bytes of a document become a `Reading`: its text, and the blocks of which the text is made."""

from fontanel.core.reading.detect import MEDIA_TYPES, detect_media_type
from fontanel.core.reading.model import Block, Member, Place, Reading, ReadingBuilder, ReadingFailed, Unit
from fontanel.core.reading.read import members, read

__all__ = [
    "MEDIA_TYPES",
    "Block",
    "Member",
    "Place",
    "Reading",
    "ReadingBuilder",
    "ReadingFailed",
    "Unit",
    "detect_media_type",
    "members",
    "read",
]
