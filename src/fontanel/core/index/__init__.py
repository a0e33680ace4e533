"""The search engine: immutable segments, keyword and vector scoring, fusion."""

from fontanel.core.index.merging import merge_vectors, merge_words
from fontanel.core.index.postings import FIELDS, WordsEntry
from fontanel.core.index.query import Candidate, Mode, Query, SearchResult
from fontanel.core.index.segments import VectorSegment, WordsSegment, write_vectors, write_words
from fontanel.core.index.snapshot import Snapshot

__all__ = [
    "FIELDS",
    "Candidate",
    "Mode",
    "Query",
    "SearchResult",
    "Snapshot",
    "VectorSegment",
    "WordsEntry",
    "WordsSegment",
    "merge_vectors",
    "merge_words",
    "write_vectors",
    "write_words",
]
