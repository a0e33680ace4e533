"""Types of arrays that the core passes around."""

import numpy as np
import numpy.typing as npt

#: Scores, weights and vectors.
Floats = npt.NDArray[np.float32]
#: Ids of passages, or keys of documents.
Ids = npt.NDArray[np.int64]
#: Indices into an array in memory.
Positions = npt.NDArray[np.int64]
#: Row numbers as segments store them.
Rows = npt.NDArray[np.int32]
#: Which rows to use.
Mask = npt.NDArray[np.bool_]


def first_dimensions(vectors: Floats, dimensions: int) -> Floats:
    """Return unit vectors of only the first dimensions, as some embedders are trained for.

    Kusupati et al. 2022, Matryoshka Representation Learning.

    Args:
        vectors: Unit vectors (texts, dimensions).
    """
    if vectors.shape[1] == dimensions:
        return vectors
    cut = vectors[:, :dimensions]
    norms = np.linalg.norm(cut, axis=1, keepdims=True)
    result: Floats = (cut / np.maximum(norms, np.finfo(np.float32).tiny)).astype(np.float32)
    return result
