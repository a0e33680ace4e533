"""What reads documents and embeds passages: processes of this machine, or a cluster."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from fontanel import __version__
from fontanel.engine.answering.local_models import LocalModels
from fontanel.engine.cluster.connection import Cluster
from fontanel.engine.cluster.tasks import Needs
from fontanel.engine.cluster.workers import ClusterEmbedder, ClusterReader, LocalWorkers
from fontanel.engine.ingest.passage_embedders import PassageEmbedder, WorkerEmbedder
from fontanel.engine.workers.processes import DocumentReader, Worker
from fontanel.settings import Settings


@dataclass(frozen=True, slots=True)
class IngestWorkers:
    """Readers, one for each thread, and an embedder; `cluster` is None without one."""

    readers: Sequence[DocumentReader]
    embedder: PassageEmbedder
    cluster: Cluster | None = None

    def start(self) -> None:
        """Begin to connect to the cluster."""
        if self.cluster is not None:
            self.cluster.start()

    def stop(self) -> None:
        """Close the connection to the cluster."""
        if self.cluster is not None:
            self.cluster.stop()


def ingest_workers(
    settings: Settings, models: LocalModels, readers: Sequence[Worker], embedder: Worker
) -> IngestWorkers:
    """Return what the settings ask for; with a cluster, processes work while it is away."""
    if not settings.cluster:
        return IngestWorkers(readers, WorkerEmbedder(embedder))
    cluster = Cluster(settings.cluster, settings.cluster_tasks, settings.cluster_tls)
    needs = Needs(__version__, models.name)
    local = LocalWorkers(readers)
    return IngestWorkers(
        [ClusterReader(cluster, needs, local) for _ in range(settings.cluster_tasks)],
        ClusterEmbedder(cluster, needs, models.dimensions, LocalWorkers([embedder])),
        cluster,
    )
