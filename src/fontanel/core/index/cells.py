"""A coarse partition of vectors into cells, of which a search probes a few.

Lloyd's k-means over a sample (Lloyd, "Least squares quantization in PCM", 1982), for unit vectors
with the inner product; an inverted file of its cells as in Jegou, Douze and Schmid, "Product
quantization for nearest neighbor search" (2011), section 4, without the quantiser.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from fontanel.core.arrays import Floats

#: The number of vectors from which a partition is worthwhile; below, a full product takes a few
#: milliseconds.
MIN_VECTORS = 50_000
#: The share of the true ten nearest that a search is to find.
WANTED_RECALL = 0.985
_SAMPLE_PER_CELL = 64
_ROUNDS = 8
_ASKED = 400


@dataclass(frozen=True, slots=True)
class Cells:
    """A partition: cell i contains the vectors [starts[i], starts[i + 1]).

    A search probes `probes` cells; `recall` is the share of the ten nearest that this finds,
    measured on the segment's own vectors, slightly perturbed.
    """

    centres: Floats
    starts: npt.NDArray[np.int64]
    probes: int
    recall: float

    @classmethod
    def of(cls, arrays: dict[str, npt.NDArray[Any]], about: dict[str, Any]) -> Cells | None:
        """From a segment's file; None when it has none."""
        if "centres" not in arrays:
            return None
        return cls(
            arrays["centres"], arrays["cell_starts"], int(about["probes"]), float(about["recall"])
        )

    def arrays(self) -> dict[str, npt.NDArray[Any]]:
        return {"centres": self.centres, "cell_starts": self.starts}

    def about(self) -> dict[str, Any]:
        return {"probes": self.probes, "recall": self.recall}

    def nearest(self, query: Floats) -> npt.NDArray[np.int64]:
        """Return the cells to probe, in the order of the file."""
        count = min(self.probes, len(self.centres))
        return np.sort(np.argpartition(-(self.centres @ query), count - 1)[:count])


def partition(vectors: Floats, seed: int = 7) -> tuple[npt.NDArray[np.int64], Cells]:
    """Cluster vectors; return the order to store them in, and the cells in that order."""
    random = np.random.default_rng(seed)
    count = max(1, round(1.2 * np.sqrt(len(vectors))))
    sample = vectors[
        np.sort(
            random.choice(len(vectors), min(len(vectors), count * _SAMPLE_PER_CELL), replace=False)
        )
    ]
    centres = _k_means(np.ascontiguousarray(sample, dtype=np.float32), count, random)
    assigned = _assign(vectors, centres)
    order = np.argsort(assigned, kind="stable")
    starts = np.zeros(count + 1, dtype=np.int64)
    np.cumsum(np.bincount(assigned, minlength=count), out=starts[1:])
    probes, recall = _measured(vectors, order, Cells(centres, starts, count, 1.0), random)
    return order, Cells(centres, starts, probes, recall)


def _k_means(sample: Floats, count: int, random: np.random.Generator) -> Floats:
    centres = sample[random.choice(len(sample), count, replace=len(sample) < count)].copy()
    for _ in range(_ROUNDS):
        assigned = _assign(sample, centres)
        order = np.argsort(assigned, kind="stable")
        sizes = np.bincount(assigned, minlength=count)
        stored = np.flatnonzero(sizes)
        starts = np.concatenate([[0], np.cumsum(sizes[stored])[:-1]])
        centres[stored] = np.add.reduceat(sample[order], starts, axis=0)
        # A centre that lost all its vectors restarts at a random one.
        empty = np.flatnonzero(sizes == 0)
        centres[empty] = sample[random.choice(len(sample), len(empty))]
        centres /= np.maximum(np.linalg.norm(centres, axis=1, keepdims=True), 1e-12)
    return centres


def _assign(vectors: Floats, centres: Floats) -> npt.NDArray[np.int64]:
    """The nearest centre of each vector."""
    out = np.empty(len(vectors), dtype=np.int64)
    for start in range(0, len(vectors), 4096):
        out[start : start + 4096] = (vectors[start : start + 4096] @ centres.T).argmax(axis=1)
    return out


def _measured(
    vectors: Floats, order: npt.NDArray[np.int64], cells: Cells, random: np.random.Generator
) -> tuple[int, float]:
    """Return the smallest number of cells that reaches the recall, and its recall."""
    picked = random.choice(len(vectors), min(_ASKED, len(vectors)), replace=False)
    asked = vectors[picked] + 0.02 * random.normal(size=(len(picked), vectors.shape[1])).astype(
        np.float32
    )
    cell_of = np.empty(len(vectors), dtype=np.int64)
    cell_of[order] = np.repeat(np.arange(len(cells.centres)), np.diff(cells.starts))
    nearest = _ten_nearest(vectors, asked)
    ranks = np.argsort(np.argsort(-(asked @ cells.centres.T), axis=1), axis=1)
    needed = np.sort(np.take_along_axis(ranks, cell_of[nearest], axis=1).ravel()) + 1
    probes = int(needed[min(len(needed) - 1, int(np.ceil(WANTED_RECALL * len(needed))))])
    return probes, float((needed <= probes).mean())


def _ten_nearest(vectors: Floats, asked: Floats) -> npt.NDArray[np.int64]:
    """Return the rows of the ten nearest vectors per question, computed in blocks."""
    best = np.full((len(asked), 10), -np.inf, dtype=np.float32)
    rows = np.zeros((len(asked), 10), dtype=np.int64)
    for start in range(0, len(vectors), 65_536):
        result = asked @ vectors[start : start + 65_536].T
        top = np.argpartition(-result, min(9, result.shape[1] - 1), axis=1)[:, :10]
        scores = np.concatenate([best, np.take_along_axis(result, top, axis=1)], axis=1)
        places = np.concatenate([rows, top + start], axis=1)
        keep = np.argsort(-scores, axis=1)[:, :10]
        best, rows = (
            np.take_along_axis(scores, keep, axis=1),
            np.take_along_axis(places, keep, axis=1),
        )
    return rows
