"""What turns the texts of passages into vectors: a worker process, or a server."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

from sqlalchemy.orm import Session

from fontanel.core.arrays import Floats
from fontanel.engine.workers.processes import Worker
from fontanel.records.tables import Job

#: A team's id and the key of a text in the vector cache.
TextKey = tuple[str, bytes]


@dataclass(frozen=True, slots=True)
class Owned:
    """A text to embed, and the job and the edition that it is for."""

    text: str
    job: Job
    edition_id: str


class EmbedderAway(Exception):
    """An embedder gives no vectors now.

    Args:
        pause: Seconds that the jobs wait.
        refused: Whether it refuses one of the texts.
    """

    def __init__(self, reason: str, pause: float, *, refused: bool = False) -> None:
        super().__init__(reason)
        self.pause = pause
        self.refused = refused


@dataclass(frozen=True, slots=True)
class Embedded:
    """Unit vectors, float32 (texts, dimensions), and what records their use once they are kept."""

    vectors: Floats
    record: Callable[[], None] = lambda: None


class PassageEmbedder(Protocol):
    """Turns texts of passages into unit vectors.

    `at_once` texts are passed to each call, and `calls` of them are made at the same time.
    """

    @property
    def at_once(self) -> int: ...
    @property
    def calls(self) -> int: ...

    def embed_owned(self, texts: Sequence[Owned]) -> Embedded:
        """Return the vectors of texts.

        Raises:
            WorkerDied: its process broke.
            EmbedderAway: it gives none now.
        """


#: Says whether a team may use an embedder now.
MayEmbed = Callable[[Session, str], bool]
#: Returns how many tokens an edition may use in a round; None for any number.
Allowance = Callable[[Session, str], float | None]


class WorkerEmbedder:
    """Embeds in a worker process, with the service's own embedder."""

    at_once, calls = 32, 1

    def __init__(self, worker: Worker) -> None:
        self._worker = worker

    def embed_owned(self, texts: Sequence[Owned]) -> Embedded:
        """Return the vectors of texts. Raises WorkerDied."""
        return Embedded(self._worker.embed([one.text for one in texts]))
