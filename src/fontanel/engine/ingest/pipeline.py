"""The ingest pipeline: read, split and index a revision by keywords; embed it.

Each stage ends in one unit of work that also moves the job on, so that a process killed at any
point leaves the stage either done or to be repeated.
"""

from __future__ import annotations

from fontanel.engine.editions.store import Editions
from fontanel.engine.ingest.embedding import EmbedStage
from fontanel.engine.ingest.passage_embedders import PassageEmbedder
from fontanel.engine.ingest.progress import ProgressReporter
from fontanel.engine.ingest.reading import ReadStage
from fontanel.engine.workers.processes import DocumentReader
from fontanel.records.blobs import BlobStore
from fontanel.records.unit_of_work import Records
from fontanel.records.vector_cache import VectorCache


class Ingest:
    """Moves documents from waiting to indexed, in rounds of background threads."""

    def __init__(
        self,
        *,
        records: Records,
        blobs: BlobStore,
        vectors: VectorCache,
        editions: Editions,
        read_seconds: float,
        embedder: str | None,
        readers: int,
    ) -> None:
        progress = ProgressReporter(records)
        self._reading = ReadStage(
            records=records,
            blobs=blobs,
            editions=editions,
            progress=progress,
            read_seconds=read_seconds,
            embedder=embedder,
            readers=readers,
        )
        self._embedding, self.remote_stage = (
            EmbedStage(records=records, vectors=vectors, editions=editions, progress=progress)
            for _ in range(2)
        )

    def read_round(self, reader: DocumentReader) -> bool:
        """Read some waiting revisions; return whether there were any."""
        return self._reading.round(reader)

    def embed_round(self, embedder: PassageEmbedder, name: str) -> bool:
        """Embed some passages; return whether there were any."""
        return self._embedding.round(embedder, name)
