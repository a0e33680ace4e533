"""The search engine: immutable segments, lexical and vector scoring, fusion and explanation."""

from fontanel.core.index.segments import (
    VectorSegment,
    WordsSegment,
    merge_vectors,
    merge_words,
    write_vectors,
    write_words,
)
from fontanel.core.index.snapshot import Candidate, Mode, Query, Snapshot
from fontanel.core.index.words import FIELDS, WordsEntry

__all__ = [
    "FIELDS",
    "Candidate",
    "Mode",
    "Query",
    "Snapshot",
    "VectorSegment",
    "WordsEntry",
    "WordsSegment",
    "merge_vectors",
    "merge_words",
    "write_vectors",
    "write_words",
]
